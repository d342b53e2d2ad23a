import { Button } from "antd";
import { Link } from "react-router";
import { api, take, type Glance as GlanceOf, type PendingThings } from "../../api/client";
import { useGlance } from "../../api/queries";
import { counted, moment } from "../../format";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";
import { useAct } from "../../parts/useAct";
import { Plot } from "./Plot";

/** So many pending things and changes are told one by one. */
const told = 4;

/** What somebody wants to know first: how reach developed, what changed since they last looked, what is pending. */
export function Glance({ worrying }: { worrying: number }) {
  const glance = useGlance();
  const g = glance.data;
  if (glance.error && !g) return <ProblemNote error={glance.error} again={() => void glance.refetch()} />;
  if (!g) return <div className="glance" aria-busy="true" />;
  return (
    <div className="glance columns after-m">
      <section aria-labelledby="glance-history">
        <h2 id="glance-history" className="part-title">
          Reach in the last 90 days
        </h2>
        <Plot history={g.history} />
      </section>
      <Changes of={g} />
      <section aria-labelledby="glance-pending">
        <h2 id="glance-pending" className="part-title">
          Pending for you
        </h2>
        <ul className="bare-list">
          {g.pending.map((p) => (
            <li key={p.kind}>
              <PendingOf of={p} />
            </li>
          ))}
          {worrying > 0 && (
            <li>
              <Link to="/?worry=true">{counted(worrying, "login")}</Link> with a bad way back in
            </li>
          )}
          {g.pending.length === 0 && worrying === 0 && <li className="quiet">Nothing.</li>}
        </ul>
      </section>
    </div>
  );
}

function Changes({ of: g }: { of: GlanceOf }) {
  const look = useAct(() => take(api.POST("/looks")), "reach");
  return (
    <section aria-labelledby="glance-changes">
      <div className="row baseline">
        <h2 id="glance-changes" className="part-title">
          {g.looked ? `Changed since ${moment(g.since)}` : "Changed in the last 7 days"}
        </h2>
        {g.changed > 0 && (
          <Button size="small" className="push" loading={look.isPending} onClick={() => look.mutate(undefined)}>
            I have seen it
          </Button>
        )}
      </div>
      <ul className="bare-list">
        {g.changes.slice(0, told).map((c) => (
          <li key={c.login} className="row gap-xs baseline">
            <Link to={`/logins/${encodeURIComponent(c.login)}`} className="shrinks cut" title={c.login}>
              {c.login}
            </Link>
            <span className="nowrap push">
              {c.before ?? "new"} → <StateMark state={c.after} />
            </span>
          </li>
        ))}
        {g.changed > told && (
          <li>
            and {counted(g.changed - Math.min(told, g.changes.length), "login")} more;{" "}
            <Link to={`/daybook?from=${encodeURIComponent(g.since)}`}>the daybook since then</Link>
          </li>
        )}
        {g.changed === 0 && <li className="quiet">No login has another reach than before.</li>}
      </ul>
    </section>
  );
}

/** Pending things of one kind, with the way to them. */
function PendingOf({ of: p }: { of: PendingThings }) {
  const one = p.names[0] ?? "";
  switch (p.kind) {
    case "run":
      return (
        <>
          <Link to={p.count === 1 ? `/instances/${encodeURIComponent(one)}` : "/restores"}>
            {counted(p.count, "run")}
          </Link>{" "}
          {p.count === 1 ? "waits" : "wait"} for somebody
        </>
      );
    case "grants":
      return (
        <>
          <Link to="/grants?overdue=true">{counted(p.count, "grant")}</Link> past the end and still in force
        </>
      );
    case "rotation":
      return (
        <>
          <Link to={p.count === 1 ? `/rotations/${one}` : "/rotations"}>{counted(p.count, "rotation")}</Link> paused
        </>
      );
    case "consent":
      return (
        <>
          <Link to="/settings/custody">{counted(p.count, "request")}</Link> for your consent
        </>
      );
    case "take-over":
      return (
        <>
          <Link to={p.count === 1 ? `/keys/${encodeURIComponent(one)}` : "/settings/custody"}>
            {counted(p.count, "key")}
          </Link>{" "}
          handed over to you: prove it
        </>
      );
    case "bring":
      return (
        <>
          <Link to="/rotations/asked">{counted(p.count, "new public key")}</Link> to bring
        </>
      );
    case "prove":
      return (
        <>
          <Link to="/proofs?holder=me">{counted(p.count, "key")}</Link> to prove
        </>
      );
    case "charter":
      return (
        <>
          <Link to={p.count === 1 ? `/charters/${encodeURIComponent(one)}` : "/charters"}>
            {counted(p.count, "charter")}
          </Link>{" "}
          that something differs from
        </>
      );
  }
}
