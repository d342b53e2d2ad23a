import { useQueryClient } from "@tanstack/react-query";
import { Button, Card, Result } from "antd";
import { useEffect } from "react";
import { Link, Navigate, useParams } from "react-router";
import type { Run } from "../../api/client";
import { useInstance, useMe, useOpeners, useRun } from "../../api/queries";
import { loginCommand, moment } from "../../format";
import { bestOpener } from "../../parts/bestOpener";
import { CopyText } from "../../parts/CopyText";
import { HostKeys } from "../../parts/HostKeys";
import { Loading } from "../../parts/Loading";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { RunSteps } from "../../parts/RunSteps";
import { StateMark } from "../../parts/StateMark";
import { WaitsNote } from "../../parts/WaitsNote";

const titles = {
  launch: "Launch of",
  start: "Start of",
  stop: "Stop of",
  delete: "Deletion of",
  grant: "Letting a key in to",
  withdraw: "Removing a key from",
  settle: "Settling drift of",
  rotate: "Replacing a key on",
  restore: "Getting back into",
};

const endings: Partial<Record<Run["state"], string>> = {
  undone: "It was undone: everything is as before",
  "needs-person": "It has ended with something left to do",
};

/** The kinds of run that change who gets in, and lead back to the login. */
const aboutLogins = ["grant", "withdraw", "settle", "rotate", "restore"];

export default function RunPage() {
  const { id = "" } = useParams();
  const { run, error, isPending } = useRun(id);
  const queries = useQueryClient();
  const ended = run?.ended_at;
  useEffect(() => {
    if (ended) void queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "run" });
  }, [ended, queries]);
  if (error && !run) return <ProblemNote error={error} />;
  if (isPending || !run) return <Loading />;
  if (run.kind === "restore") return <Navigate to={`/restores/${id}`} replace />;
  return (
    <>
      <PageHead title={`${titles[run.kind]} ${run.instance}`} note={<StateMark state={run.state} />} />
      <div className="stack page">
        {run.waits && !ended && <WaitsNote waits={run.waits} />}
        <Card
          size="small"
          title={`Asked for by ${run.requested_by}, ${moment(run.created_at)}${run.reason ? `: ${run.reason}` : ""}`}
          aria-live="polite"
        >
          <RunSteps run={run} />
        </Card>
        {!ended && <p className="flush">The service continues with it even if this page is closed.</p>}
        {run.state === "done" && (run.kind === "launch" || run.kind === "start") && (
          <HowToLogIn instance={run.instance} />
        )}
        {run.state === "done" && run.kind !== "delete" && (
          <div>
            <Link
              to={`/${aboutLogins.includes(run.kind) ? "logins" : "instances"}/${encodeURIComponent(run.instance)}`}
            >
              <Button type="primary">To {run.instance}</Button>
            </Link>
          </div>
        )}
        {ended && run.state !== "done" && (
          <Result
            status="warning"
            title={endings[run.state] ?? "It failed, and could not be undone"}
            subTitle={run.error}
            extra={
              <Link to={run.kind === "launch" ? "/launch" : `/instances/${encodeURIComponent(run.instance)}`}>
                <Button>{run.kind === "launch" ? "Launch again" : `To ${run.instance}`}</Button>
              </Link>
            }
          />
        )}
      </div>
    </>
  );
}

function HowToLogIn({ instance }: { instance: string }) {
  const i = useInstance(instance);
  const openers = useOpeners(instance);
  const me = useMe();
  const first = bestOpener(openers.rows, me.data?.name);
  if (!i.data || openers.isPending) return null;
  if (!first)
    return (
      <Card size="small" title="It is up">
        Nobody can log in: no key was placed.
      </Card>
    );
  return (
    <Card size="small" title="It is up. Log in">
      <CopyText block label="ssh command" text={loginCommand(i.data.connection, `~/.ssh/${first.key.name}`)} />
      <p>Compare the host key at the first connection:</p>
      <HostKeys keys={i.data.connection.host_keys} />
    </Card>
  );
}
