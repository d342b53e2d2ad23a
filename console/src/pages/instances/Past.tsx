import { Alert, Card, Input, Table, Tag } from "antd";
import { useState } from "react";
import type { PastKey, PastWay } from "../../api/client";
import { usePast } from "../../api/queries";
import { day, moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { ProblemNote } from "../../parts/ProblemNote";

/** Who could get in to an instance at the end of a day that is over, by the readings and grants that are kept. */
export function Past({ of: instance }: { of: string }) {
  const [date, setDate] = useState("");
  const at = date ? new Date(`${date}T23:59:59`).toISOString() : undefined;
  const past = usePast(instance, at);
  const unknown = past.data?.unknown ?? [];
  return (
    <Card
      size="small"
      title="At a date"
      className="before-l"
      extra={<Input type="date" aria-label="The date" value={date} onChange={(e) => setDate(e.target.value)} />}
    >
      {!date && <EmptyNote text="Choose a day that is over to see who could get in at its end." />}
      {past.error && <ProblemNote error={past.error} again={() => void past.refetch()} />}
      {unknown.map((u) => (
        <Alert
          key={u.login}
          type="warning"
          showIcon
          className="after-m"
          title={`Not known what was in place in ${u.login}: ${
            u.first_read ? `it was first read on ${moment(u.first_read)}` : "it was never read"
          }.`}
        />
      ))}
      {past.data && (
        <Table<PastKey>
          size="small"
          rowKey={(k) => k.login + k.sha256 + (k.seen_from ?? "")}
          dataSource={past.data.keys}
          pagination={{ pageSize: 20, hideOnSinglePage: true }}
          columns={columns}
          locale={{ emptyText: <EmptyNote text="No key is known to have been granted or in place." /> }}
        />
      )}
      {past.data?.ways && past.data.ways.length > 0 && (
        <Table<PastWay>
          size="small"
          className="before-m"
          rowKey={(w) => w.login + w.text + (w.seen_from ?? "")}
          dataSource={past.data.ways}
          pagination={{ pageSize: 20, hideOnSinglePage: true }}
          columns={wayColumns}
        />
      )}
    </Card>
  );
}

/** Between which readings something was seen. */
function seen(of: { seen_from?: string; seen_to?: string; gone_by?: string }): string {
  if (!of.seen_from) return "by none";
  const gone = of.gone_by ? `, gone by ${moment(of.gone_by)}` : "";
  return `${moment(of.seen_from)} to ${moment(of.seen_to ?? of.seen_from)}${gone}`;
}

const wayColumns = [
  { title: "Login", dataIndex: "login" },
  { title: "Other way in", dataIndex: "text" },
  { title: "Known", dataIndex: "known" },
  { title: "Read of the settings", render: (_: unknown, w: PastWay) => seen(w) },
];

const columns = [
  { title: "Login", dataIndex: "login" },
  {
    title: "Key",
    render: (_: unknown, k: PastKey) =>
      k.key ?? (
        <>
          <Tag color="error">stranger</Tag>
          {k.comment || k.sha256}
        </>
      ),
  },
  { title: "Holder", render: (_: unknown, k: PastKey) => k.holder ?? "nobody" },
  { title: "In place", dataIndex: "known" },
  {
    title: "Seen by readings",
    render: (_: unknown, k: PastKey) => seen(k),
  },
  {
    title: "Granted",
    render: (_: unknown, k: PastKey) =>
      k.grants.map((g) => `${day(g.granted_at)} by ${g.granted_by}`).join("; ") || "not granted",
  },
];
