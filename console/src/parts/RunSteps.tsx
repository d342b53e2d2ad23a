import { Progress, theme } from "antd";
import type { Run, Step } from "../api/client";
import { took } from "../format";
import { StateMark } from "./StateMark";

/** The steps of a run, each with what it is about, how far it is and what came of it. wide is for long titles. */
export function RunSteps({ run, wide }: { run: Run; wide?: boolean }) {
  const { token } = theme.useToken();
  return (
    <ol style={{ listStyle: "none", margin: 0, padding: 0 }}>
      {run.steps.map((s) => (
        <li
          key={s.name}
          style={{
            display: "grid",
            gridTemplateColumns: `100px ${wide ? 190 : 130}px 1fr 70px`,
            gap: 14,
            padding: "9px 0",
            borderBottom: `1px solid ${token.colorBorderSecondary}`,
            alignItems: "baseline",
          }}
        >
          <StateMark state={s.state} />
          <strong style={{ fontWeight: 600 }}>{s.title}</strong>
          <span>
            <span
              style={{
                color: s.outcome && s.state !== "running" ? undefined : token.colorTextSecondary,
                overflowWrap: "anywhere",
              }}
            >
              {told(s)}
            </span>
            {s.state === "running" && Boolean(s.percent) && (
              <Progress percent={s.percent ?? 0} size="small" aria-label={`${s.title}, percent done`} />
            )}
          </span>
          <span style={{ textAlign: "right", color: token.colorTextSecondary }}>{took(s.started_at, s.ended_at)}</span>
        </li>
      ))}
    </ol>
  );
}

const told = (s: Step) => s.outcome || s.intent;
