import { Button, type TableColumnsType } from "antd";
import { Link } from "react-router";
import type { Rotation } from "../../api/client";
import { useMe, useRotations } from "../../api/queries";
import { moment, rotated } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { PagedTable } from "../../parts/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { StateMark } from "../../parts/StateMark";
import { Counts } from "./Counts";
import { RotationTabs } from "./RotationTabs";

/** All rotations, the newest first. */
export default function Rotations() {
  const me = useMe();
  const pages = useRotations();
  const plan = me.data?.role !== "viewer" && (
    <Link to="/rotations/plan">
      <Button type="primary">Plan a rotation</Button>
    </Link>
  );
  return (
    <>
      <PageHead title="Rotations" note="keys replaced, proved login by login, without anybody locked out">
        {plan}
      </PageHead>
      <RotationTabs />
      <PagedTable<Rotation>
        pages={pages}
        noun="rotation"
        rowKey={(r) => r.id}
        columns={columns}
        empty={<EmptyNote text="No key was rotated yet.">{plan}</EmptyNote>}
      />
    </>
  );
}

const columns: TableColumnsType<Rotation> = [
  { title: "Old keys", key: "keys", render: (_, r) => <Link to={`/rotations/${r.id}`}>{rotated(r)}</Link> },
  { title: "Begun", key: "begun", render: (_, r) => moment(r.created_at) },
  { title: "By", key: "by", render: (_, r) => (r.rule ? `the rule ${r.rule}` : r.requested_by) },
  { title: "State", key: "state", render: (_, r) => <StateMark state={r.state} /> },
  { title: "Logins", key: "counts", render: (_, r) => <Counts of={r} /> },
  { title: "Why", key: "why", render: (_, r) => r.paused_why ?? r.reason },
  { title: "Ended", key: "ended", render: (_, r) => (r.ended_at ? moment(r.ended_at) : "") },
];
