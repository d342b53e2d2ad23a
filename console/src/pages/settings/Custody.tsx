import { App, Button, Card, Form, Input, Table, Tag, type TableColumnsType } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Consent, type WaitingHandOver } from "../../api/client";
import { useConsentLabels, useConsents, useHandOvers, useMe, useSafe } from "../../api/queries";
import { day, moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { Facts } from "../../parts/Facts";
import { FormDialog } from "../../parts/FormDialog";
import { PageHead } from "../../parts/PageHead";
import { ProveButton } from "../../parts/Prove";
import { StateMark } from "../../parts/StateMark";
import { useAct } from "../../parts/useAct";
import { SettingsTabs } from "./SettingsTabs";
import { actionsHead } from "../../parts/actionsHead";

/** Who asked for what is in the safe, which keys are being handed over, and the state of the safe. */
export default function Custody() {
  const admin = useMe().data?.role === "admin";
  const consents = useConsents(true);
  const waiting = useHandOvers();
  const [deciding, setDeciding] = useState<{ of: Consent; grant: boolean }>();
  return (
    <>
      <PageHead title="Custody" note="who asks for a private key in the safe, and who takes keys over" />
      <SettingsTabs />
      <Card size="small" title="Requests for consent" styles={{ body: { padding: 0 } }} className="after-l">
        <Table<Consent>
          size="small"
          rowKey="id"
          pagination={{ pageSize: 20, hideOnSinglePage: true }}
          loading={consents.isPending}
          dataSource={consents.data}
          columns={consentColumns(setDeciding)}
          scroll={{ x: "max-content" }}
          locale={{ emptyText: <EmptyNote text="Nobody has asked for consent." /> }}
        />
      </Card>
      <Card size="small" title="Hand-overs that wait for a proof" styles={{ body: { padding: 0 } }} className="after-l">
        <Table<WaitingHandOver>
          size="small"
          rowKey="key"
          pagination={false}
          loading={waiting.isPending}
          dataSource={waiting.data}
          columns={handOverColumns}
          locale={{ emptyText: <EmptyNote text="No hand-over waits." /> }}
        />
      </Card>
      <div className="pair">
        <ConsentLabels admin={admin} />
        {admin && <SafeCard />}
      </div>
      {deciding && (
        <FormDialog<{ note?: string }, unknown>
          title={
            deciding.grant
              ? `Consent that ${deciding.of.asked_by} takes ${deciding.of.key}?`
              : `Refuse ${deciding.of.key} to ${deciding.of.asked_by}?`
          }
          act={deciding.grant ? "Consent" : "Refuse"}
          danger={!deciding.grant}
          stale="consents"
          close={() => setDeciding(undefined)}
          send={(v) =>
            take(
              api.POST("/consents/{consent}/decision", {
                params: { path: { consent: deciding.of.id } },
                body: { grant: deciding.grant, note: v.note || undefined },
              }),
            )
          }
        >
          <p>They say why: {deciding.of.reason}</p>
          <Form.Item name="note" label="A word to them, for the daybook">
            <Input />
          </Form.Item>
        </FormDialog>
      )}
    </>
  );
}

const consentColumns = (decide: (d: { of: Consent; grant: boolean }) => void): TableColumnsType<Consent> => [
  { title: "Key", key: "key", render: (_, c) => <Link to={`/keys/${encodeURIComponent(c.key)}`}>{c.key}</Link> },
  { title: "State", key: "state", render: (_, c) => <StateMark state={c.state} /> },
  { title: "Asked by", dataIndex: "asked_by" },
  { title: "Why", dataIndex: "reason" },
  { title: "Until", key: "until", render: (_, c) => moment(c.expires_at) },
  {
    title: "Decided",
    key: "decided",
    render: (_, c) => (c.decided_by ? `by ${c.decided_by}${c.note ? `: ${c.note}` : ""}` : ""),
  },
  {
    title: actionsHead,
    key: "do",
    align: "right",
    render: (_, c) =>
      c.state === "asked" &&
      (c.own ? (
        "somebody else decides"
      ) : (
        <span className="inline">
          <Button size="small" type="primary" onClick={() => decide({ of: c, grant: true })}>
            Consent
          </Button>
          <Button size="small" danger onClick={() => decide({ of: c, grant: false })}>
            Refuse
          </Button>
        </span>
      )),
  },
];

const handOverColumns: TableColumnsType<WaitingHandOver> = [
  { title: "Key", key: "key", render: (_, h) => <Link to={`/keys/${encodeURIComponent(h.key)}`}>{h.key}</Link> },
  { title: "From", dataIndex: "from" },
  { title: "To", dataIndex: "to" },
  { title: "Asked", key: "asked", render: (_, h) => `by ${h.asked_by}, ${day(h.asked_at)}` },
  { title: "Why", dataIndex: "reason" },
  {
    title: "They prove it",
    key: "prove",
    render: (_, h) => <ProveButton of={h.key} small />,
  },
];

function ConsentLabels({ admin }: { admin: boolean }) {
  const labels = useConsentLabels();
  const [adding, setAdding] = useState(false);
  const drop = useAct(
    (l: { name: string; value: string }) => take(api.POST("/consent-labels", { body: { ...l, asks: false } })),
    "consent-labels",
  );
  return (
    <Card
      size="small"
      title="Labels that ask for consent"
      extra={
        admin && (
          <Button size="small" onClick={() => setAdding(true)}>
            Add a label
          </Button>
        )
      }
    >
      {labels.data?.length === 0 && (
        <p className="flush">
          None: a holder or an admin takes a kept private key out of the safe with a reason alone.
        </p>
      )}
      {labels.data?.map((l) => (
        <Tag
          key={`${l.name}=${l.value}`}
          closable={admin}
          onClose={(e) => {
            e.preventDefault();
            drop.mutate({ name: l.name, value: l.value });
          }}
        >
          {l.name}={l.value}
        </Tag>
      ))}
      {labels.data && labels.data.length > 0 && (
        <p className="flush-end">
          For a key with such a label, or one that opens such an instance, a second person has to consent.
        </p>
      )}
      {adding && (
        <FormDialog<{ label: string }, unknown>
          title="Have a label ask for consent"
          act="Add it"
          stale="consent-labels"
          close={() => setAdding(false)}
          send={(v) => {
            const [name = "", ...rest] = v.label.split("=");
            return take(api.POST("/consent-labels", { body: { name, value: rest.join("="), asks: true } }));
          }}
        >
          <Form.Item
            name="label"
            label="Label"
            rules={[{ required: true, pattern: /^[^=\s]+=/, message: "A label is written name=value" }]}
          >
            <Input placeholder="team=atlas" />
          </Form.Item>
        </FormDialog>
      )}
    </Card>
  );
}

function SafeCard() {
  const safe = useSafe().data;
  const { modal } = App.useApp();
  const renew = useAct(() => take(api.POST("/safe/new-key", { params: { query: {} } })), "safe");
  if (!safe) return null;
  return (
    <Card
      size="small"
      title="The safe"
      extra={
        safe.on && (
          <Button
            size="small"
            loading={renew.isPending}
            onClick={() =>
              void modal.confirm({
                title: "Put everything under a new safe key?",
                content:
                  "The service continues meanwhile. Keep a copy of the new key's file elsewhere; previous backups " +
                  "need the old one.",
                okText: "Do it",
                onOk: () => renew.mutateAsync(undefined).catch(() => {}),
              })
            }
          >
            New safe key
          </Button>
        )
      }
    >
      {safe.on ? (
        <Facts
          of={[
            ["Private keys", String(safe.private_keys)],
            ["Safe key", <code key="m">{safe.mark}</code>],
            ["Old safe keys", safe.safe_keys > 1 && `${safe.safe_keys - 1} still open`],
            ["Opened by none", safe.unreadable?.join(", ")],
          ]}
        />
      ) : (
        <p className="flush">It is switched off: no private key is kept, and there are no steward keys.</p>
      )}
    </Card>
  );
}
