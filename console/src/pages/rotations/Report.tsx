import { Button, Table, type TableColumnsType } from "antd";
import { Link, useParams } from "react-router";
import type { ReportedItem, ReportedProof, RotationReport } from "../../api/client";
import { useRotationReport } from "../../api/queries";
import { graceText, moment } from "../../format";
import { Facts } from "../../parts/Facts";
import { Loading } from "../../parts/Loading";
import { PageHead } from "../../parts/PageHead";
import { Paper, Part } from "../../parts/Paper";
import { ProblemNote } from "../../parts/ProblemNote";

/** The report of a rotation, also for paper. */
export default function Report() {
  const { id = "" } = useParams();
  const report = useRotationReport(id);
  if (report.error) return <ProblemNote error={report.error} again={() => void report.refetch()} />;
  if (!report.data) return <Loading />;
  const p = report.data;
  const r = p.rotation;
  return (
    <>
      <Paper />
      <PageHead title="Report of a rotation" note={`as of ${moment(p.made_at)}`}>
        <span className="screen-only row">
          <Link to={`/rotations/${r.id}`}>
            <Button>The rotation</Button>
          </Link>
          <Button
            href={`data:application/json;charset=utf-8,${encodeURIComponent(JSON.stringify(p, null, 2))}`}
            download={`rotation-${r.id}.json`}
          >
            Save as JSON
          </Button>
          <Button type="primary" onClick={() => window.print()}>
            Print
          </Button>
        </span>
      </PageHead>
      <div className="pair gap-xl page">
        <Facts
          of={[
            ["Rotation", r.id],
            ["State", r.urgent ? `${r.state}, urgent` : r.state],
            ["Asked for by", r.rule ? `the rule ${r.rule}` : r.requested_by],
            ["Why", r.reason],
          ]}
        />
        <Facts
          of={[
            ["Begun", moment(r.created_at)],
            ["Ended", r.ended_at ? moment(r.ended_at) : "not yet"],
            ["Grace", r.settings.grace_seconds ? graceText(r.settings.grace_seconds) : "none"],
            [
              "Outcome",
              `${p.replaced.length} replaced, ${p.not_done.length} not done, ${p.left_out.length} left out by the plan`,
            ],
          ]}
        />
      </div>
      <Part title="Replaced" n={p.replaced.length} none="Nothing was replaced.">
        <Table<ReportedItem>
          size="small"
          rowKey={(i) => `${i.login} ${i.old}`}
          pagination={false}
          dataSource={p.replaced}
          columns={replaced}
        />
      </Part>
      <Part title="Not done" n={p.not_done.length} none="All that was planned is done.">
        <Table<ReportedItem>
          size="small"
          rowKey={(i) => `${i.login} ${i.old}`}
          pagination={false}
          dataSource={p.not_done}
          columns={notDone}
        />
      </Part>
      <Part title="Left out by the plan" n={p.left_out.length} none="The plan left nothing out.">
        <Table<RotationReport["left_out"][number]>
          size="small"
          rowKey={(i) => `${i.login} ${i.old}`}
          pagination={false}
          dataSource={p.left_out}
          columns={leftOut}
        />
      </Part>
      <Part title="Where an old key may still live" n={p.elsewhere.length} none="No such place is known.">
        <Table<RotationReport["elsewhere"][number]>
          size="small"
          rowKey={(o) => `${o.old} ${o.kind} ${o.place}`}
          pagination={false}
          dataSource={p.elsewhere}
          columns={elsewhere}
        />
      </Part>
    </>
  );
}

const proof = (p?: ReportedProof) => (p ? `${p.person}, ${moment(p.at)}` : "none");

const replaced: TableColumnsType<ReportedItem> = [
  { title: "Login", dataIndex: "login" },
  { title: "Old key", dataIndex: "old" },
  { title: "New key", dataIndex: "new" },
  { title: "Done", key: "at", render: (_, i) => i.ended_at && moment(i.ended_at) },
  { title: "Edited by", dataIndex: "means" },
  { title: "Last login with the old before", key: "before", render: (_, i) => proof(i.proof_before) },
  {
    title: "Login with the new",
    key: "after",
    render: (_, i) => (i.override ? `▲ overridden by ${i.override}` : proof(i.proof_after)),
  },
  { title: "Old key", key: "refused", render: (_, i) => (i.old_refused ? "refused" : "not seen refused") },
];

const notDone: TableColumnsType<ReportedItem> = [
  { title: "Login", dataIndex: "login" },
  { title: "Old key", dataIndex: "old" },
  { title: "New key", dataIndex: "new" },
  { title: "State", dataIndex: "state" },
  { title: "Why", dataIndex: "detail" },
];

const leftOut: TableColumnsType<RotationReport["left_out"][number]> = [
  { title: "Login", dataIndex: "login" },
  { title: "Key", dataIndex: "old" },
  { title: "Why", dataIndex: "why" },
  { title: "What to do about it", dataIndex: "remedy" },
];

const elsewhere: TableColumnsType<RotationReport["elsewhere"][number]> = [
  { title: "Key", dataIndex: "old" },
  { title: "Kind", dataIndex: "kind" },
  { title: "Where", dataIndex: "place" },
  { title: "Made, or last seen", key: "at", render: (_, o) => o.at && moment(o.at) },
  { title: "What that means", dataIndex: "note" },
];
