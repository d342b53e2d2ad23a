import { Alert, Button } from "antd";
import { problemOf } from "../api/client";

/** Says what is wrong, where, and what to do. */
export function ProblemNote({ error, again }: { error: unknown; again?: () => void }) {
  if (!error) return null;
  const p = problemOf(error);
  const place = p.line ? `Line ${p.line}, column ${p.column}: ` : "";
  return (
    <Alert
      type={p.status >= 500 || p.status === 0 ? "warning" : "error"}
      showIcon
      role="alert"
      title={place + capital(p.detail)}
      description={
        <>
          {p.remedy && <div>{p.remedy}.</div>}
          {p.where && p.where.length > 0 && <div>{p.where.join(", ")}</div>}
          {p.code === "failed" && p.request_id && <div>Request {p.request_id}</div>}
        </>
      }
      action={
        again && (
          <Button size="small" onClick={again}>
            Try again
          </Button>
        )
      }
    />
  );
}

const capital = (s: string) => s.charAt(0).toUpperCase() + s.slice(1);
