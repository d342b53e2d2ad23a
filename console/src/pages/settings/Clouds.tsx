import { App, Button, Card, Form, Input, Table, Tag, type TableColumnsType } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Cloud } from "../../api/client";
import { useClouds, useMe } from "../../api/queries";
import { counted, moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { FormDialog } from "../../parts/FormDialog";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";
import { useAct } from "../../parts/useAct";
import { RecordRules } from "./RecordRules";
import { SettingsTabs } from "./SettingsTabs";
import { actionsHead } from "../../parts/actionsHead";

interface Wanted {
  name?: string;
  adapter?: string;
  token?: string;
  ca?: string;
}

/** The clouds: whether each answers, what it can do, and what runs in it that is not recorded. */
export default function Clouds() {
  const clouds = useClouds();
  const admin = useMe().data?.role === "admin";
  const [adding, setAdding] = useState(false);
  const [changing, setChanging] = useState<Cloud>();
  const add = admin && (
    <Button type="primary" onClick={() => setAdding(true)}>
      Add a cloud
    </Button>
  );
  return (
    <>
      <PageHead title="Clouds" note="each is spoken to through its adapter; the tokens are in the safe">
        {add}
      </PageHead>
      <SettingsTabs />
      {clouds.error && <ProblemNote error={clouds.error} again={() => void clouds.refetch()} />}
      <Card size="small" styles={{ body: { padding: 0 } }}>
        <Table<Cloud>
          size="small"
          rowKey="name"
          pagination={false}
          loading={clouds.isPending}
          dataSource={clouds.data}
          columns={columns(setChanging)}
          scroll={{ x: "max-content" }}
          expandable={{
            columnTitle: <span className="unseen">Details</span>,
            expandedRowRender: (c) => <Details of={c} />,
          }}
          locale={{ emptyText: <EmptyNote text="No cloud yet. Machines of no cloud are adopted.">{add}</EmptyNote> }}
        />
      </Card>
      <RecordRules />
      {adding && (
        <FormDialog<Wanted, Cloud>
          title="Add a cloud"
          act="Ask its adapter and add it"
          stale="clouds"
          close={() => setAdding(false)}
          send={(v) =>
            take(
              api.POST("/clouds", {
                body: { name: v.name ?? "", adapter: v.adapter ?? "", token: v.token ?? "", ca: v.ca || undefined },
              }),
            )
          }
        >
          <Form.Item name="name" label="Name" rules={[{ required: true, message: "Give it a name" }]}>
            <Input placeholder="south-marsh" />
          </Form.Item>
          <Adapter needed />
        </FormDialog>
      )}
      {changing && (
        <FormDialog<Wanted, Cloud>
          title={`Change the adapter of ${changing.name}`}
          act="Ask its adapter and change it"
          stale="clouds"
          close={() => setChanging(undefined)}
          initial={{ adapter: changing.adapter }}
          send={(v) =>
            take(
              api.PATCH("/clouds/{cloud}", {
                params: { path: { cloud: changing.name } },
                body: { adapter: v.adapter, token: v.token || undefined, ca: v.ca || undefined },
              }),
            )
          }
        >
          <Adapter needed={false} />
        </FormDialog>
      )}
    </>
  );
}

function Adapter({ needed }: { needed: boolean }) {
  return (
    <>
      <Form.Item name="adapter" label="Adapter" rules={[{ required: true, message: "Give its URL" }]}>
        <Input placeholder="https://adapter.marsh.example" />
      </Form.Item>
      <Form.Item
        name="token"
        label={needed ? "Token" : "Another token"}
        extra="It is kept in the safe and shown to nobody."
        rules={needed ? [{ required: true, message: "Give what the adapter asks for" }] : []}
      >
        <Input.Password autoComplete="off" />
      </Form.Item>
      <Form.Item name="ca" label="Certificate authority, in PEM, where it has one of its own">
        <Input.TextArea rows={3} spellCheck={false} className="code" />
      </Form.Item>
    </>
  );
}

const columns = (change: (c: Cloud) => void): TableColumnsType<Cloud> => [
  { title: "Name", key: "name", render: (_, c) => <strong>{c.name}</strong> },
  { title: "State", key: "state", render: (_, c) => <StateMark state={stateOf(c)} /> },
  {
    title: "Last answer",
    key: "answer",
    render: (_, c) => (
      <span className="nowrap">
        {c.answered_at ? moment(c.answered_at) : "never"}
        {c.latency_ms > 0 && `, ${c.latency_ms} ms`}
      </span>
    ),
  },
  {
    title: "Instances",
    key: "instances",
    align: "right",
    render: (_, c) => <Link to={`/instances?cloud=${encodeURIComponent(c.name)}`}>{c.instances}</Link>,
  },
  {
    title: "Not recorded",
    key: "not",
    align: "right",
    render: (_, c) => <Link to={`/bring-in?cloud=${encodeURIComponent(c.name)}`}>{c.not_recorded}</Link>,
  },
  {
    title: "Last read",
    key: "read",
    render: (_, c) => (
      <span className="nowrap">
        {c.read_at ? moment(c.read_at) : "not yet"}
        {c.read_failure && " (the last try failed)"}
      </span>
    ),
  },
  { title: actionsHead, key: "do", align: "right", render: (_, c) => <Changes of={c} change={change} /> },
];

function stateOf(c: Cloud) {
  if (c.paused_at) return "paused";
  if (c.failure) return "no answer";
  return c.answered_at ? "answers" : "not asked yet";
}

function Details({ of: c }: { of: Cloud }) {
  return (
    <div className="stack gap-xs">
      <div>
        {c.says ? `It calls itself ${c.says}.` : "It has not answered yet."} Its adapter is at{" "}
        {c.adapter || "no address, since the service was started without it"}
        {c.given ? ", as the service was started with." : `, added by ${c.added_by} on ${moment(c.added_at)}.`}
      </div>
      <div>
        {c.capabilities.map((can) => (
          <Tag key={can}>{can}</Tag>
        ))}
      </div>
      {c.capabilities.some((can) => can === "key-catalogue" || can === "group-keys") && (
        <div>
          <Link to={`/settings/clouds/${encodeURIComponent(c.name)}/keys`}>
            Its named keys, and the keys of its groups
          </Link>
        </div>
      )}
      <div>Zones: {c.zones.map((z) => `${z.name} in ${z.region}`).join(", ") || "none"}</div>
      {c.read_said && (
        <div>
          The last whole reading found {counted(c.read_said.instances, "instance")}: {c.read_said.new} for the first
          time, {c.read_said.changed} changed, {c.read_said.gone} gone.
        </div>
      )}
      {c.read_failure && <div>The last reading changed nothing: {c.read_failure}</div>}
      {c.failure && <div>It does not answer: {c.failure}</div>}
      {c.paused_at && (
        <div>
          Paused on {moment(c.paused_at)} by {c.paused_by}
          {c.paused_why && `: ${c.paused_why}`}
        </div>
      )}
    </div>
  );
}

function Changes({ of: c, change }: { of: Cloud; change: (c: Cloud) => void }) {
  const { modal, message } = App.useApp();
  const role = useMe().data?.role;
  const params = { path: { cloud: c.name } };
  const check = useAct(
    () => take(api.POST("/clouds/{cloud}/check", { params })),
    "clouds",
    (r) =>
      void (r.failure
        ? message.warning(`${c.name} does not answer: ${r.failure}`, 8)
        : message.success(`${c.name} answers`)),
  );
  const read = useAct(
    () => take(api.POST("/clouds/{cloud}/read", { params })),
    "clouds",
    () => void message.success(`${c.name} is being read`),
  );
  const pause = useAct((paused: boolean) => take(api.PATCH("/clouds/{cloud}", { params, body: { paused } })), "clouds");
  const forget = useAct(() => take(api.DELETE("/clouds/{cloud}", { params })), "clouds");
  if (role === "viewer") return null;
  return (
    <span className="inline">
      <Button size="small" loading={check.isPending} onClick={() => check.mutate(undefined)}>
        Check
      </Button>
      <Button
        size="small"
        disabled={Boolean(c.paused_at)}
        loading={read.isPending}
        onClick={() => read.mutate(undefined)}
      >
        Read
      </Button>
      {role === "admin" && (
        <>
          <Button size="small" onClick={() => pause.mutate(!c.paused_at)}>
            {c.paused_at ? "Resume" : "Pause"}
          </Button>
          {!c.given && (
            <>
              <Button size="small" onClick={() => change(c)}>
                Change
              </Button>
              <Button
                size="small"
                danger
                onClick={() =>
                  void modal.confirm({
                    title: `Forget the cloud ${c.name}?`,
                    content:
                      `Nothing in it is touched. ${counted(c.instances, "instance")} in it stay recorded as machines ` +
                      "of no cloud: ways back in that need the cloud are closed to them.",
                    okText: "Forget it",
                    okButtonProps: { danger: true },
                    onOk: () => forget.mutateAsync(undefined).catch(() => {}),
                  })
                }
              >
                Forget
              </Button>
            </>
          )}
        </>
      )}
    </span>
  );
}
