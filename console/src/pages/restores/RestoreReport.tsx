import { Button, Table } from "antd";
import { Link, useParams } from "react-router";
import type { RestoreReport as ReportOf, Step } from "../../api/client";
import { useRestoreReport } from "../../api/queries";
import { moment, routeTitle, took } from "../../format";
import { Facts } from "../../parts/Facts";
import { Loading } from "../../parts/Loading";
import { PageHead } from "../../parts/PageHead";
import { Paper, Part } from "../../parts/Paper";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";

/** The report of a restore, also for paper. */
export default function RestoreReport() {
  const { id = "" } = useParams();
  const report = useRestoreReport(id);
  if (report.error) return <ProblemNote error={report.error} again={() => void report.refetch()} />;
  if (!report.data) return <Loading />;
  const p = report.data;
  const r = p.restore;
  const steps = r.run.steps.filter((s) => s.state !== "waiting");
  return (
    <>
      <Paper />
      <PageHead title={`Report of the restore of ${r.login}`} note={`as of ${moment(p.made_at)}`}>
        <span className="screen-only row">
          <Link to={`/restores/${r.run.id}`}>
            <Button>The restore</Button>
          </Link>
          <Button
            href={`data:application/json;charset=utf-8,${encodeURIComponent(JSON.stringify(p, null, 2))}`}
            download={`restore-${r.run.id}.json`}
          >
            Save as JSON
          </Button>
          <Button type="primary" onClick={() => window.print()}>
            Print
          </Button>
        </span>
      </PageHead>
      <div className="pair gap-xl page top">
        <Facts
          of={[
            ["Route", routeTitle(r.route)],
            ["State", r.run.state],
            ["Asked for by", r.run.requested_by],
            ["Why", r.run.reason],
            ["Begun", moment(r.run.created_at)],
            ["Ended", r.run.ended_at ? moment(r.run.ended_at) : "not yet"],
          ]}
        />
        <Facts
          of={[
            ["New key", r.key],
            ["Login with it", r.proved_at ? moment(r.proved_at) : "not completed"],
            ["Lost keys", r.lost.join(", ")],
            ["Instance now", r.target],
            [
              "Address",
              p.address_before === p.address_after
                ? p.address_after
                : `${p.address_after ?? "none"}, and was ${p.address_before ?? "none"}`,
            ],
            ["Not restored", r.differs],
            ["Not done because", r.run.error],
          ]}
        />
      </div>
      <Part title="What was done" n={steps.length} none="Nothing was begun.">
        <Table<Step>
          size="small"
          rowKey="name"
          pagination={false}
          dataSource={steps}
          columns={[
            { title: "Step", dataIndex: "title" },
            { title: "State", key: "state", render: (_, s) => <StateMark state={s.state} /> },
            { title: "Outcome", key: "outcome", render: (_, s) => s.outcome ?? s.intent },
            { title: "Begun", key: "begun", render: (_, s) => s.started_at && moment(s.started_at) },
            { title: "Took", key: "took", align: "right", render: (_, s) => took(s.started_at, s.ended_at) },
          ]}
        />
      </Part>
      <Part title="Opened temporarily" n={r.closings.length} none="Nothing was opened.">
        <Table<ReportOf["restore"]["closings"][number]>
          size="small"
          rowKey="what"
          pagination={false}
          dataSource={r.closings}
          columns={[
            { title: "What", dataIndex: "what" },
            { title: "Opened", key: "opened", render: (_, c) => c.opened_at && moment(c.opened_at) },
            { title: "To be closed by", key: "deadline", render: (_, c) => moment(c.deadline) },
            {
              title: "Confirmed closed",
              key: "closed",
              render: (_, c) => (c.closed_at ? moment(c.closed_at) : "▲ not yet"),
            },
            { title: "Note", dataIndex: "note" },
          ]}
        />
      </Part>
      <Part title="Left to do" n={r.left.length} none="Nothing is left.">
        <ul>
          {r.left.map((l) => (
            <li key={l}>{l}</li>
          ))}
        </ul>
      </Part>
      <Part title="Where else the lost keys are" n={p.elsewhere.length} none="Nowhere else, as far as is known.">
        <Table<ReportOf["elsewhere"][number]>
          size="small"
          rowKey={(l) => `${l.key} ${l.login}`}
          pagination={false}
          dataSource={p.elsewhere}
          columns={[
            { title: "Key", dataIndex: "key" },
            {
              title: "Login",
              key: "login",
              render: (_, l) => <Link to={`/logins/${encodeURIComponent(l.login)}`}>{l.login}</Link>,
            },
            { title: "Its reach now", key: "reach", render: (_, l) => <StateMark state={l.reach} /> },
          ]}
        />
      </Part>
      <Part title="Copies of the disk with the lost keys in them" n={p.copies.length} none="No such copy is known.">
        <Table<ReportOf["copies"][number]>
          size="small"
          rowKey="place"
          pagination={false}
          dataSource={p.copies}
          columns={[
            { title: "Kind", dataIndex: "kind" },
            { title: "Name", dataIndex: "place" },
            { title: "Made", key: "at", render: (_, c) => c.at && moment(c.at) },
            { title: "What that means", dataIndex: "note" },
          ]}
        />
      </Part>
      {p.passwords.length > 0 && (
        <Part title="Who saw the administrator's password" n={p.passwords.length} none="">
          <Table<ReportOf["passwords"][number]>
            size="small"
            rowKey={(w) => w.at + w.what}
            pagination={false}
            dataSource={p.passwords}
            columns={[
              { title: "Who", dataIndex: "person" },
              {
                title: "What",
                key: "what",
                render: (_, w) => (w.what === "asked" ? "asked for it, encrypted" : "opened it"),
              },
              { title: "When", key: "at", render: (_, w) => moment(w.at) },
            ]}
          />
        </Part>
      )}
    </>
  );
}
