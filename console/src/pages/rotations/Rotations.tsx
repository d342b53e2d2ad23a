import { Button } from "antd";
import { Link } from "react-router";
import type { Rotation } from "../../api/client";
import { useMe, useRotations } from "../../api/queries";
import { moment, rotated } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { PagedTable } from "../../parts/list/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { StateMark } from "../../parts/StateMark";
import { Counts } from "./Counts";
import { Goals } from "./Goals";
import { RotationTabs } from "./RotationTabs";
import type { Column } from "../../parts/list/column";

/** All rotations, the newest first. */
export default function Rotations() {
  const me = useMe();
  const pages = useRotations();
  const plan = me.data?.role !== "viewer" && (
    <Link to="/rotations/plan?goal=keys">
      <Button type="primary">Replace certain keys</Button>
    </Link>
  );
  return (
    <>
      <PageHead title="Rotations" note="keys replaced, proved login by login, without anybody locked out">
        {plan}
      </PageHead>
      <RotationTabs />
      <Goals />
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

const columns: Column<Rotation>[] = [
  { title: "Old keys", key: "keys", text: rotated, render: (r) => <Link to={`/rotations/${r.id}`}>{rotated(r)}</Link> },
  { title: "Begun", key: "begun", text: (r) => moment(r.created_at) },
  { title: "By", key: "by", text: (r) => (r.rule ? `the rule ${r.rule}` : r.requested_by) },
  { title: "State", key: "state", text: (r) => r.state, render: (r) => <StateMark state={r.state} /> },
  { title: "Logins", key: "counts", text: (r) => r.total, render: (r) => <Counts of={r} /> },
  { title: "Why", key: "why", text: (r) => r.paused_why ?? r.reason },
  { title: "Ended", key: "ended", text: (r) => (r.ended_at ? moment(r.ended_at) : "") },
];
