import { Alert } from "antd";
import type { Finding } from "../api/client";
import { actBy } from "../format";

const kinds = { bad: "error", caution: "warning", remark: "info" } as const;

/** Findings about a key, each with what to do about it. */
export function Findings({ of }: { of: Finding[] }) {
  return (
    <div className="stack gap-s">
      {of.map((f) => (
        <Alert
          key={f.code}
          type={kinds[f.weight]}
          showIcon
          title={
            <>
              {f.text.charAt(0).toUpperCase()}
              {f.text.slice(1)}.{" "}
              <span className="faint">
                {f.remedy}
                {actBy(f)}.
              </span>
            </>
          }
        />
      ))}
    </div>
  );
}
