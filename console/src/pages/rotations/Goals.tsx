import { Link } from "react-router";
import { useRotationGoals } from "../../api/queries";
import { counted } from "../../format";
import { ProblemNote } from "../../parts/ProblemNote";
import { goals } from "./goal";

/** What rotations are for, each with how much there is to do. */
export function Goals() {
  const counts = useRotationGoals();
  if (counts.error) return <ProblemNote error={counts.error} again={() => void counts.refetch()} />;
  return (
    <nav aria-label="Goals" className="columns four gap-m after-l">
      {(["old", "weak", "shared", "lost"] as const).map((goal) => {
        const now = counts.data?.find((c) => c.goal === goal);
        return (
          <Link key={goal} to={`/rotations/plan?goal=${goal}`} className="tile plain-ink inherits">
            <strong className="figure small">{goals[goal].title}</strong>
            <span className="row gap-xs baseline">
              <span className="figure large">{now?.keys ?? "…"}</span>
              {now && `${now.keys === 1 ? "key" : "keys"}, in ${counted(now.lines, "key line")}`}
            </span>
            <span className="small quiet">{goals[goal].about}</span>
          </Link>
        );
      })}
    </nav>
  );
}
