import { Link } from "react-router";
import { useClosings } from "../api/queries";
import { useNow } from "./useNow";
import { clock, left } from "../format";

/** What restores hold open right now, on every page, until it is confirmed closed. */
export function OpenBar() {
  const open = useClosings().data ?? [];
  const now = useNow(open.length > 0);
  if (open.length === 0) return null;
  return (
    <div role="alert" className="open-bar">
      {open.map((c) => (
        <div key={c.restore + c.what}>
          <span aria-hidden>▲ </span>
          {c.opened_at ? "Open right now" : "May be open, since the cloud has not answered"}: {c.what} of {c.instance},
          closed by {clock(c.deadline)} at the latest ({left(c.deadline, now)}).{" "}
          <Link to={`/restores/${c.restore}`}>See why</Link>
          {c.note && ` ${c.note}`}
        </div>
      ))}
    </div>
  );
}
