import { App, Button, Card, Form, Input, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Entry, type Key } from "../../api/client";
import { useDaybook, useHandOvers, useHolders } from "../../api/queries";
import { moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { FormDialog } from "../../parts/FormDialog";
import { PagedTable } from "../../parts/list/PagedTable";
import { OutcomeMark } from "../../parts/StateMark";
import { useAct } from "../../parts/useAct";

/** What was done with a key, its uses and releases among it. */
export function Uses({ of }: { of: string }) {
  const entries = useDaybook({ key: of });
  return (
    <Card
      size="small"
      title="What was done with it"
      extra={<Link to={`/daybook?key=${encodeURIComponent(of)}`}>In the daybook</Link>}
      styles={{ body: { padding: 0 } }}
      className="before-l"
    >
      <PagedTable<Entry>
        pages={entries}
        wraps
        noun="entry"
        rowKey={(e) => String(e.seq)}
        empty={<EmptyNote text="The daybook tells nothing of it yet." />}
        columns={[
          {
            title: "When",
            key: "at",
            text: (e) => moment(e.at),
            render: (e) => <span className="nowrap">{moment(e.at)}</span>,
          },
          { title: "By", key: "person", text: (e) => e.person },
          {
            title: "Outcome",
            key: "outcome",
            text: (e) => e.outcome,
            render: (e) => <OutcomeMark outcome={e.outcome} />,
          },
          {
            title: "What",
            key: "what",
            text: (e) => e.sentence,
            render: (e) => (
              <span>
                {e.sentence}
                {e.why && <em> Why: {e.why}</em>}
              </span>
            ),
          },
        ]}
      />
    </Card>
  );
}

/** Has another holder take a key over. */
export function HandOver({ of }: { of: Key }) {
  const [asking, setAsking] = useState(false);
  const { message } = App.useApp();
  const waiting = useHandOvers().data?.find((h) => h.key === of.name);
  const holders = useHolders().data?.filter((k) => k.name !== of.holder?.name && !k.left) ?? [];
  const off = useAct(() => take(api.DELETE("/keys/{key}/hand-over", { params: { path: { key: of.name } } })), "keys");
  if (waiting)
    return (
      <Button onClick={() => off.mutate(undefined)} title={`${waiting.to} has to prove that they hold it`}>
        Call off the hand-over to {waiting.to}
      </Button>
    );
  return (
    <>
      <Button onClick={() => setAsking(true)}>Hand over</Button>
      {asking && (
        <FormDialog<{ to: string; reason?: string }, { waits_for?: string }>
          title={`Hand ${of.name} over`}
          act="Hand it over"
          stale="keys"
          close={() => setAsking(false)}
          done={(r) =>
            void message.success(
              r.waits_for
                ? `${r.waits_for} is asked to prove that they hold it: on the page of ${of.name}, or by plumlatch prove`
                : "It is handed over",
              8,
            )
          }
          send={(body) => take(api.POST("/keys/{key}/hand-over", { params: { path: { key: of.name } }, body }))}
        >
          <p>
            The new holder proves that they have the private key. One that never left the safe changes its holder at
            once.
          </p>
          <Form.Item name="to" label="To" rules={[{ required: true, message: "Say to whom" }]}>
            <Select showSearch options={holders.map((k) => ({ value: k.name, label: `${k.name} (${k.title})` }))} />
          </Form.Item>
          <Form.Item name="reason" label="Why, for the daybook">
            <Input />
          </Form.Item>
        </FormDialog>
      )}
    </>
  );
}
