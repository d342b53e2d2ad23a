import { Alert, App, Button, Card, Form, Input, Select, Table, type TableColumnsType } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, take, type Leaving, type LeavingItem } from "../../api/client";
import { useHolders, useLeaving } from "../../api/queries";
import { counted, moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { FormDialog } from "../../parts/FormDialog";
import { Loading } from "../../parts/Loading";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";
import { useAct } from "../../parts/useAct";
import { SettingsTabs } from "./SettingsTabs";

const words: Record<LeavingItem["what"], string> = {
  replace: "replace it with a key of the successor",
  withdraw: "withdraw it; others keep the login solid, or it is missing",
  "hand over": "hand it over; its private key has never left the safe",
  retire: "retire it; it opens nothing",
};

const columns: TableColumnsType<LeavingItem> = [
  { title: "Key", key: "key", render: (_, i) => <Link to={`/keys/${encodeURIComponent(i.key)}`}>{i.key}</Link> },
  {
    title: "Login",
    key: "login",
    render: (_, i) => (i.login ? <Link to={`/logins/${encodeURIComponent(i.login)}`}>{i.login}</Link> : ""),
  },
  { title: "Reach now", key: "before", render: (_, i) => i.before && <StateMark state={i.before} /> },
  { title: "Without them", key: "after", render: (_, i) => i.after && <StateMark state={i.after} /> },
  { title: "To do", key: "what", render: (_, i) => words[i.what] },
];

/** What somebody's leaving takes, and how far it is. */
export default function LeavingPage() {
  const { name = "" } = useParams();
  const leaving = useLeaving(name);
  const [asking, setAsking] = useState(false);
  const { modal } = App.useApp();
  const again = useAct(
    () =>
      take(api.POST("/operators/{operator}/leaving", { params: { path: { operator: name } }, body: { again: true } })),
    "leaving",
  );
  const off = useAct(
    () => take(api.DELETE("/operators/{operator}/leaving", { params: { path: { operator: name } } })),
    "leaving",
  );
  if (leaving.error) return <ProblemNote error={leaving.error} again={() => void leaving.refetch()} />;
  if (!leaving.data) return <Loading />;
  const l = leaving.data;
  return (
    <>
      <PageHead
        title={`${name} leaves`}
        note={
          l.closed
            ? "it is over"
            : l.begun_at
              ? `begun by ${l.begun_by ?? ""} on ${moment(l.begun_at)}; ${l.to ?? ""} follows; the account is closed`
              : "nothing is begun yet"
        }
      >
        {!l.closed && !l.begun_at && (
          <Button type="primary" danger onClick={() => setAsking(true)}>
            Begin it
          </Button>
        )}
        {!l.closed && l.begun_at && <Button onClick={() => again.mutate(undefined)}>Take it up again</Button>}
        {!l.closed && l.begun_at && (
          <Button
            onClick={() =>
              void modal.confirm({
                title: "Call it off?",
                content: "The account is opened again. What was replaced stays so.",
                okText: "Call it off",
                onOk: () => off.mutateAsync(undefined).catch(() => {}),
              })
            }
          >
            Call it off
          </Button>
        )}
      </PageHead>
      <SettingsTabs />
      <Progress of={l} />
      <Card
        size="small"
        title={l.closed ? "Nothing is left to do" : `Still to do: ${counted(l.items.length, "key line")}`}
        styles={{ body: { padding: 0 } }}
      >
        <Table<LeavingItem>
          size="small"
          rowKey={(i) => `${i.key} ${i.login ?? ""}`}
          pagination={{ pageSize: 50, hideOnSinglePage: true }}
          scroll={{ x: 760 }}
          dataSource={l.items}
          columns={columns}
          locale={{ emptyText: <EmptyNote text={`${name} has no key that is in place.`} /> }}
        />
      </Card>
      {asking && <Begin name={name} close={() => setAsking(false)} />}
    </>
  );
}

const some = (names: string[]) =>
  names.slice(0, 8).join(", ") + (names.length > 8 ? ` and ${names.length - 8} more` : "");

function Progress({ of: l }: { of: Leaving }) {
  if (l.closed)
    return (
      <Alert
        className="after-m"
        type="success"
        showIcon
        title={`${l.person} has left`}
        description="None of their keys is in place now, and the account is closed."
      />
    );
  return (
    <>
      {l.note && <Alert className="after-m" type="warning" showIcon title="It waits" description={l.note} />}
      {l.rotation && (
        <Alert
          className="after-m"
          type="info"
          showIcon
          title={
            <>
              Their keys are being replaced: <Link to={`/rotations/${l.rotation}`}>watch the rotation</Link>
            </>
          }
        />
      )}
      {l.shut.length > 0 && (
        <Alert
          className="after-m"
          type="error"
          showIcon
          title={`Without ${l.person}, ${counted(l.shut.length, "login")} would be shut: ${some(l.shut)}`}
        />
      )}
      {l.thin.length > 0 && (
        <Alert
          className="after-m"
          type="warning"
          showIcon
          title={`${counted(l.thin.length, "login")} would be thin: ${some(l.thin)}`}
        />
      )}
      {l.team_keys.length > 0 && (
        <Alert
          className="after-m"
          type="info"
          showIcon
          title={
            <>
              They may also have the keys of their teams; rotate those:{" "}
              {l.team_keys.map((k) => (
                <Link key={k} to={`/rotations/plan?key=${encodeURIComponent(k)}`} className="apart">
                  {k}
                </Link>
              ))}
            </>
          }
        />
      )}
    </>
  );
}

function Begin({ name, close }: { name: string; close: () => void }) {
  const holders = useHolders().data?.filter((k) => k.name !== name && !k.left) ?? [];
  return (
    <FormDialog<{ to: string; reason?: string; word: string }, unknown>
      title={`Begin the leaving of ${name}`}
      act="Begin it"
      danger
      stale="leaving"
      close={close}
      send={(v) =>
        take(
          api.POST("/operators/{operator}/leaving", {
            params: { path: { operator: name } },
            body: { to: v.to, reason: v.reason || undefined },
          }),
        )
      }
    >
      <p>
        Their keys are replaced by keys of the one who follows, or withdrawn where others keep the login solid; kept
        ones are handed over. Their account, tokens and sessions end first.
      </p>
      <Form.Item name="to" label="Who follows" rules={[{ required: true, message: "Say who follows" }]}>
        <Select showSearch options={holders.map((k) => ({ value: k.name, label: `${k.name} (${k.title})` }))} />
      </Form.Item>
      <Form.Item name="reason" label="Why, for the daybook">
        <Input />
      </Form.Item>
      <Form.Item
        name="word"
        label={`Type ${name} to continue`}
        rules={[{ required: true, pattern: new RegExp(`^${name.replace(/[.]/g, "\\.")}$`), message: `Type ${name}` }]}
      >
        <Input autoComplete="off" />
      </Form.Item>
    </FormDialog>
  );
}
