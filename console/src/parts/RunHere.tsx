import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link } from "react-router";
import { useRun } from "../api/queries";
import { RunSteps } from "./RunSteps";
import { StateMark } from "./StateMark";
import { WaitsNote } from "./WaitsNote";

/** A run where it was asked for: how far it is, its steps where they are wanted, and the way to its page. */
export function RunHere({ id, steps }: { id: string; steps?: boolean }) {
  const { run } = useRun(id);
  const queries = useQueryClient();
  const ended = Boolean(run?.ended_at);
  useEffect(() => {
    if (ended) void queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "run" });
  }, [ended, queries]);
  if (!run) return <>asked for</>;
  const now = run.steps.find((s) => s.state === "running");
  return (
    <span role="status">
      <StateMark state={run.state} /> {!steps && !ended && now?.title} {run.error}{" "}
      <Link to={`/runs/${id}`} className="in-text">
        Its page
      </Link>
      {run.waits && !ended && <WaitsNote waits={run.waits} />}
      {steps && <RunSteps run={run} />}
    </span>
  );
}
