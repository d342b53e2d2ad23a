import { Navigate, useSearchParams } from "react-router";
import { FullPlan } from "./FullPlan";
import { GoalForm } from "./GoalForm";
import { isGoal } from "./goal";

/** A rotation by what it is for; all that can be said of it is behind a link. */
export default function Plan() {
  const [params] = useSearchParams();
  const goal = params.get("goal") ?? (params.has("key") ? "keys" : params.has("lost") ? "lost" : undefined);
  if (params.has("all")) return <FullPlan />;
  return isGoal(goal) ? <GoalForm key={goal} goal={goal} /> : <Navigate to="/rotations" replace />;
}
