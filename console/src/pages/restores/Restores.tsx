import { Button } from "antd";
import { Link } from "react-router";
import type { Restore } from "../../api/client";
import { useRestores } from "../../api/queries";
import { moment, routeTitle } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { PagedTable } from "../../parts/list/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { StateMark } from "../../parts/StateMark";
import type { Column } from "../../parts/list/column";

/** All restores, the newest first. */
export default function Restores() {
  const pages = useRestores();
  return (
    <>
      <PageHead title="Restores" note="ways back into logins whose private keys are lost, proved and cleaned up after">
        <Link to="/?worry=true">
          <Button>Logins with a bad way back</Button>
        </Link>
        <Link to="/?state=shut">
          <Button type="primary">Shut logins</Button>
        </Link>
      </PageHead>
      <PagedTable<Restore>
        pages={pages}
        noun="restore"
        rowKey={(r) => r.run.id}
        columns={columns}
        empty={
          <EmptyNote text="No login was restored yet. Open a login that is shut, and press Get back in.">
            <Link to="/?state=shut">
              <Button type="primary">Shut logins</Button>
            </Link>
          </EmptyNote>
        }
      />
    </>
  );
}

const why = (r: Restore) => (r.left.length > 0 ? `left: ${r.left.join("; ")}` : r.run.reason);

const columns: Column<Restore>[] = [
  {
    title: "Begun",
    key: "begun",
    text: (r) => moment(r.run.created_at),
    render: (r) => <Link to={`/restores/${r.run.id}`}>{moment(r.run.created_at)}</Link>,
  },
  {
    title: "Login",
    key: "login",
    text: (r) => r.login,
    render: (r) => <Link to={`/logins/${encodeURIComponent(r.login)}`}>{r.login}</Link>,
  },
  { title: "Route", key: "route", text: (r) => routeTitle(r.route) },
  {
    title: "State",
    key: "state",
    text: (r) => (r.waits ? "waits for somebody" : r.run.state),
    render: (r) => (r.waits ? <StateMark state="waits for somebody" /> : <StateMark state={r.run.state} />),
  },
  {
    title: "New key",
    key: "key",
    text: (r) => r.key,
    render: (r) => <Link to={`/keys/${encodeURIComponent(r.key)}`}>{r.key}</Link>,
  },
  { title: "Lost keys", key: "lost", text: (r) => r.lost.join(", ") },
  { title: "By", key: "by", text: (r) => r.run.requested_by },
  {
    title: "Why",
    key: "why",
    text: why,
    render: (r) => <span className="block-text">{why(r)}</span>,
  },
];
