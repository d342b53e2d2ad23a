import { Button, Card, Table } from "antd";
import { Link } from "react-router";
import type { Charter } from "../../api/client";
import { useCharters, useMe } from "../../api/queries";
import { moment } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { EmptyNote } from "../../parts/EmptyNote";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";

/** The charters: files in which teams declare keys, instances and who may open what. */
export default function Charters() {
  const list = useCharters();
  const may = useMe().data?.role !== "viewer";
  return (
    <>
      <PageHead title="Charters" note="access as files: what teams declare, and what differs from it">
        <Link to="/charters/compare">
          <Button type={may ? "primary" : "default"}>Compare a file</Button>
        </Link>
      </PageHead>
      {list.error && <ProblemNote error={list.error} again={() => void list.refetch()} />}
      <Card size="small" styles={{ body: { padding: 0 } }}>
        <Table<Charter>
          size="small"
          rowKey="name"
          pagination={false}
          loading={list.isPending}
          dataSource={list.data}
          locale={{
            emptyText: (
              <EmptyNote text="No charter yet. The client writes one of what there is:">
                <CopyText text="plumlatch charter write fleet -into fleet.yaml" label="the command" />
              </EmptyNote>
            ),
          }}
          columns={[
            {
              title: "Charter",
              key: "name",
              render: (_, c) => <Link to={`/charters/${encodeURIComponent(c.name)}`}>{c.name}</Link>,
            },
            { title: "Version", dataIndex: "version" },
            { title: "Grants", dataIndex: "grants" },
            { title: "Differs", key: "differs", render: (_, c) => <Differs of={c} /> },
            {
              title: "Compared",
              key: "compared",
              render: (_, c) => (c.compared_at ? moment(c.compared_at) : "not yet"),
            },
            { title: "Note", dataIndex: "note" },
          ]}
        />
      </Card>
    </>
  );
}

/** How much differed when the service last compared it, as a sign and a word. */
function Differs({ of: c }: { of: Charter }) {
  if (c.problem) return <span className="bad">▲ {c.problem}</span>;
  if (!c.compared_at) return null;
  if (c.differs > 0) return <span className="warn">◆ {c.differs}</span>;
  return <span className="good">● nothing</span>;
}
