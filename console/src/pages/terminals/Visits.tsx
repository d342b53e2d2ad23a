import { App, Button, Card, Form, Input, Tag } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Visit } from "../../api/client";
import { useMe, useRecordedLabels, useVisits } from "../../api/queries";
import { moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { FormDialog } from "../../parts/FormDialog";
import { KeyName } from "../../parts/KeyName";
import { PagedTable } from "../../parts/list/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { Toggle } from "../../parts/Toggle";
import { useAct } from "../../parts/useAct";
import { usePlace } from "../../parts/usePlace";
import { SettingsTabs } from "../settings/SettingsTabs";
import { endWord, ways } from "./ends";
import type { Column } from "../../parts/list/column";

/** Who uses which login through the console, and who did. */
export default function Visits() {
  const { get, set } = usePlace();
  const live = get("live") === "true";
  const login = get("login");
  const visits = useVisits({ live: live || undefined, login });
  const me = useMe();
  const { modal } = App.useApp();
  const end = useAct(
    (v: Visit) => take(api.DELETE("/visits/{visit}", { params: { path: { visit: v.id } } })),
    "visits",
  );
  const ask = (v: Visit) =>
    void modal.confirm({
      title: `End the visit of ${v.person} to ${v.login}?`,
      content: "What runs in it is ended with it, as when a connection breaks.",
      okText: "End it",
      okButtonProps: { danger: true },
      onOk: () => end.mutateAsync(v).catch(() => {}),
    });
  const admin = me.data?.role === "admin";
  return (
    <>
      <PageHead title="Visits" note="logins used through the console: by whom, by which key, from where" />
      <SettingsTabs />
      <div className="row middle gap-l many after-m">
        <Toggle on={live} change={(to) => set("live", to)}>
          Only those that are open
        </Toggle>
        {login && (
          <Tag closable onClose={() => set("login", undefined)}>
            {login}
          </Tag>
        )}
      </div>
      <Card size="small" styles={{ body: { padding: 0 } }} className="after-l">
        <PagedTable<Visit>
          pages={visits}
          noun="visit"
          rowKey={(v) => v.id}
          columns={columns(admin, ask)}
          empty={<EmptyNote text={live ? "No visit is open." : "Nobody has visited a login yet."} />}
        />
      </Card>
      <RecordedLabels admin={admin} />
    </>
  );
}

function columns(admin: boolean, end: (v: Visit) => void): Column<Visit>[] {
  return [
    {
      title: "Login",
      key: "login",
      text: (v) => v.login,
      render: (v) => <Link to={`/logins/${encodeURIComponent(v.login)}`}>{v.login}</Link>,
    },
    { title: "Person", key: "person", text: (v) => v.person },
    { title: "State", key: "state", text: (v) => (v.state === "ended" ? endWord(v.ended_how) : v.state) },
    {
      title: "By",
      key: "by",
      text: (v) => v.key,
      render: (v) => (v.key && v.key_sha256 ? <KeyName name={v.key} sha256={v.key_sha256} /> : "a key that is gone"),
    },
    { title: "Way", key: "way", text: (v) => ways[v.way].name.toLowerCase() },
    { title: "From", key: "from", text: (v) => v.address },
    { title: "Opened", key: "opened", text: (v) => (v.opened_at ? moment(v.opened_at) : "never") },
    { title: "Ended", key: "ended", text: (v) => (v.ended_at ? moment(v.ended_at) : "") },
    { title: "Why", key: "why", text: (v) => v.reason ?? v.problem },
    {
      title: "Actions",
      unseen: true,
      key: "do",
      align: "right",
      render: (v) => (
        <span className="inline">
          {v.recorded && admin && <Link to={`/settings/visits/${v.id}`}>Recording</Link>}
          {v.state !== "ended" && (
            <Button size="small" danger onClick={() => end(v)}>
              End it
            </Button>
          )}
        </span>
      ),
    },
  ];
}

function RecordedLabels({ admin }: { admin: boolean }) {
  const labels = useRecordedLabels();
  const [adding, setAdding] = useState(false);
  const drop = useAct(
    (l: { name: string; value: string }) => take(api.POST("/recorded-labels", { body: { ...l, records: false } })),
    "visits",
  );
  return (
    <Card
      size="small"
      title="Labels whose visits are recorded"
      extra={
        admin && (
          <Button size="small" onClick={() => setAdding(true)}>
            Add a label
          </Button>
        )
      }
    >
      {labels.data?.length ? (
        labels.data.map((l) => (
          <Tag
            key={`${l.name}=${l.value}`}
            closable={admin}
            onClose={() => drop.mutate({ name: l.name, value: l.value })}
          >
            {l.name}={l.value}
          </Tag>
        ))
      ) : (
        <span className="quiet">
          Nothing is recorded. With a label, what is typed and shown on its instances is, encrypted, for admins to see.
        </span>
      )}
      {adding && (
        <FormDialog<{ label: string }, unknown>
          title="Have visits recorded"
          act="Record them"
          stale="visits"
          close={() => setAdding(false)}
          send={({ label }) => {
            const [name = "", ...value] = label.split("=");
            return take(api.POST("/recorded-labels", { body: { name, value: value.join("="), records: true } }));
          }}
        >
          <p>
            The person who opens a terminal is told so. What is typed is recorded too, passwords at prompts among it.
          </p>
          <Form.Item
            name="label"
            label="Label of instances"
            rules={[{ required: true, pattern: /^[^=]+=.+$/, message: "Write it as name=value" }]}
          >
            <Input placeholder="name=value" />
          </Form.Item>
        </FormDialog>
      )}
    </Card>
  );
}
