import { Progress } from "antd";
import type { Run, Step } from "../api/client";
import { took } from "../format";
import { StateMark } from "./StateMark";

/** The steps of a run, each with what it is about, how far it is and what came of it. wide is for long titles. */
export function RunSteps({ run, wide }: { run: Run; wide?: boolean }) {
  return (
    <ol className="bare-list">
      {run.steps.map((s) => (
        <li key={s.name} className={wide ? "step wide" : "step"}>
          <StateMark state={s.state} />
          <strong className="strong">{s.title}</strong>
          <span>
            <span className={s.outcome && s.state !== "running" ? "anywhere" : "anywhere quiet"}>{told(s)}</span>
            {s.state === "running" && Boolean(s.percent) && (
              <Progress percent={s.percent ?? 0} size="small" aria-label={`${s.title}, percent done`} />
            )}
          </span>
          <span className="quiet to-end">{took(s.started_at, s.ended_at)}</span>
        </li>
      ))}
    </ol>
  );
}

const told = (s: Step) => s.outcome || s.intent;
