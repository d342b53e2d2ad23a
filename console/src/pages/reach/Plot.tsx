import { Link } from "react-router";
import type { ReachMoment, ReachState } from "../../api/client";
import { day, lookOf, reachOrder } from "../../format";

const width = 300;
const height = 92;

/** How many logins had which reach, day by day: bands on one another, the safest at the bottom. */
export function Plot({ history }: { history: ReachMoment[] }) {
  const first = history[0];
  const last = history.at(-1);
  if (!first || !last) return <p className="quiet flush">It is kept from today on.</p>;
  const from = Date.parse(first.at);
  const span = Math.max(Date.parse(last.at) - from, 1);
  const states = [...reachOrder].reverse();
  const all = (m: ReachMoment) => states.reduce((sum, s) => sum + (m.counts[s] ?? 0), 0);
  const most = Math.max(1, ...history.map(all));
  const x = (m: ReachMoment) => ((Date.parse(m.at) - from) / span) * width;
  const y = (n: number) => height - (n / most) * height;
  const under = (m: ReachMoment, state: ReachState) =>
    states.slice(0, states.indexOf(state)).reduce((sum, s) => sum + (m.counts[s] ?? 0), 0);
  const bands = states.filter((s) => history.some((m) => (m.counts[s] ?? 0) > 0));
  const summary = bands.map((s) => `${s} ${first.counts[s] ?? 0}, then ${last.counts[s] ?? 0}`).join("; ");
  return (
    <div className="row">
      <figure className="flush">
        <svg
          width={width}
          height={height}
          viewBox={`0 0 ${width} ${height}`}
          role="img"
          aria-label={`From ${day(first.at)} until now: ${summary}`}
        >
          <defs>
            <pattern id="plot-stale" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
              <rect width="5" height="5" className="band warn" opacity="0.55" />
              <line x1="0" y1="0" x2="0" y2="5" className="band-line warn" />
            </pattern>
          </defs>
          {bands.map((s) => {
            const top = history.map((m) => `${x(m)},${y(under(m, s) + (m.counts[s] ?? 0))}`);
            const bottom = history.map((m) => `${x(m)},${y(under(m, s))}`).reverse();
            return (
              <polygon
                key={s}
                points={[...top, ...bottom].join(" ")}
                className={`band ${lookOf(s).tone}`}
                fill={s === "stale" ? "url(#plot-stale)" : undefined}
                opacity={s === "thin" ? 0.4 : undefined}
              />
            );
          })}
        </svg>
        <figcaption className="row small quiet">
          <span>{day(first.at)}</span>
          <span className="push">today</span>
        </figcaption>
      </figure>
      <ul className="bare-list small nowrap" aria-label="Today">
        {[...bands].reverse().map((s) => (
          <li key={s} className={lookOf(s).tone}>
            <Link to={`/?state=${s}`} className="plain-ink inherits">
              <span aria-hidden>{lookOf(s).sign}</span> {last.counts[s] ?? 0} {s}
            </Link>
          </li>
        ))}
      </ul>
    </div>
  );
}
