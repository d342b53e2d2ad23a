import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, Card, Input, Modal } from "antd";
import { useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { api, take, type Restore } from "../../api/client";
import { useKey, useMe, useRestore } from "../../api/queries";
import { moment, routeTitle, took } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { Facts } from "../../parts/Facts";
import { Loading } from "../../parts/Loading";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { RunSteps } from "../../parts/RunSteps";
import { TakeOut } from "../keys/TakeOut";
import { StateMark } from "../../parts/StateMark";
import { WaitsNote } from "../../parts/WaitsNote";

/** A restore, live: each step, what it waits for, what is open, and its undo. */
export default function RestorePage() {
  const { id = "" } = useParams();
  const { restore: r, error } = useRestore(id);
  const me = useMe();
  const queries = useQueryClient();
  const ended = r?.run.ended_at;
  useEffect(() => {
    if (ended)
      void queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "restores" && q.queryKey[0] !== "run" });
  }, [ended, queries]);
  const opened = r?.closings.filter((c) => !c.closed_at).length ?? 0;
  // The bar shows it at once.
  useEffect(() => void queries.invalidateQueries({ queryKey: ["closings"] }), [opened, queries]);
  if (error && !r) return <ProblemNote error={error} />;
  if (!r) return <Loading />;
  const may = Boolean(me.data && me.data.role !== "viewer");
  const user = r.login.split("@")[0];
  const target = `${user}@${r.target}`;
  return (
    <>
      <PageHead title={`Getting back into ${r.login}`} note={<StateMark state={r.run.state} />}>
        <Link to={`/restores/${r.run.id}/report`}>
          <Button>Report</Button>
        </Link>
        {may && r.undoable && <Undo of={r} />}
      </PageHead>
      <div className="columns main-side top">
        <div className="stack">
          {r.waits && <WaitsNote waits={r.waits} />}
          {r.run.state === "done" && (
            <Alert
              type={r.left.length ? "warning" : "success"}
              showIcon
              title={
                r.route === "windows-password"
                  ? "The administrator's password was set again and opened. Change it at once."
                  : `${target} is open again: a login with ${r.key} was completed.`
              }
              description={
                <>
                  {r.lost.length > 0 && (
                    <div>
                      {r.lost.join(", ")} no longer opens it, and is marked as lost everywhere.{" "}
                      <Link to={`/restores/${r.run.id}/report`}>See where else it is</Link>
                    </div>
                  )}
                  {r.left.map((l) => (
                    <div key={l}>Left to do: {l}</div>
                  ))}
                </>
              }
            />
          )}
          {r.run.state === "undone" && (
            <Alert
              type="info"
              showIcon
              title={r.differs ? "It was undone" : "It was undone: everything is as it was"}
              description={
                <>
                  <div>{r.run.error}</div>
                  {r.differs && <div>Not restored: {r.differs}</div>}
                </>
              }
            />
          )}
          {r.run.state === "needs-person" && (
            <Alert type="error" showIcon title="It has ended with something left to do" description={r.run.error} />
          )}
          {r.run.state === "failed" && (
            <Alert type="error" showIcon title="It failed, and could not be undone wholly" description={r.run.error} />
          )}
          <Card size="small" title="Steps" aria-live="polite">
            <RunSteps run={r.run} wide />
          </Card>
          {!ended && <p className="flush">The service continues with it even if this page is closed.</p>}
        </div>
        <Card size="small">
          <Facts
            of={[
              ["Route", routeTitle(r.route)],
              [
                "New key",
                <Link key="k" to={`/keys/${encodeURIComponent(r.key)}`}>
                  {r.key}
                </Link>,
              ],
              ["Lost keys", r.lost.join(", ")],
              [
                "Instance",
                <Link key="i" to={`/instances/${encodeURIComponent(r.target)}`}>
                  {r.target}
                </Link>,
              ],
              ["Asked for by", `${r.run.requested_by}, ${moment(r.run.created_at)}`],
              ["Why", r.run.reason],
              ["Login completed", r.proved_at && moment(r.proved_at)],
              ["Ended", ended && `${moment(ended)}, after ${took(r.run.created_at, ended)}`],
              [
                "Opened",
                r.closings.length > 0 && (
                  <div key="o" className="stack gap-xs">
                    {r.closings.map((c) => (
                      <div key={c.what}>
                        {c.what}:{" "}
                        {c.closed_at ? (
                          `closed ${moment(c.closed_at)}`
                        ) : (
                          <strong>open, closed by {moment(c.deadline)} at the latest</strong>
                        )}
                        {c.note && `; ${c.note}`}
                      </div>
                    ))}
                  </div>
                ),
              ],
            ]}
          />
          {r.run.state === "done" && r.route !== "windows-password" && (
            <div className="stack gap-s before-m">
              <strong>Log in</strong>
              <div className="row many">
                <Link to={`/terminals/${encodeURIComponent(target)}`}>
                  <Button>Open a terminal</Button>
                </Link>
                {r.kept && <Kept name={r.key} />}
              </div>
              <CopyText block label="command" text={`plumlatch connect ${r.target}`} />
            </div>
          )}
          {r.run.state === "done" && (
            <div className="before-m">
              <Link to={`/logins/${encodeURIComponent(target)}`}>
                <Button type="primary">To {target}</Button>
              </Link>
            </div>
          )}
        </Card>
      </div>
    </>
  );
}

/** The new key, whose private key is in the safe. */
function Kept({ name }: { name: string }) {
  const key = useKey(name);
  return key.data && key.data.custody === "kept" ? <TakeOut of={key.data} /> : null;
}

function Undo({ of }: { of: Restore }) {
  const { message } = App.useApp();
  const queries = useQueryClient();
  const [asking, setAsking] = useState(false);
  const [reason, setReason] = useState("");
  const undo = useMutation({
    mutationFn: () =>
      take(
        api.POST("/restores/{run}/undo", {
          params: { path: { run: of.run.id }, query: { reason: reason || undefined } },
        }),
      ),
    onSuccess: () => {
      setAsking(false);
      void queries.invalidateQueries({ queryKey: ["restores"] });
    },
    onError: (e) => void message.error(e.message),
  });
  return (
    <>
      <Button danger onClick={() => setAsking(true)}>
        Undo
      </Button>
      <Modal
        open={asking}
        title="Undo this restore?"
        okText="Undo it"
        okButtonProps={{ danger: true }}
        cancelText="Let it continue"
        confirmLoading={undo.isPending}
        onCancel={() => setAsking(false)}
        onOk={() => undo.mutate()}
      >
        <p>
          The current step is aborted and all steps are undone, the last one first. The instance may be stopped and
          started once more for it.
        </p>
        <p>
          <label htmlFor="undo-reason">Why, for the daybook</label>
          <Input id="undo-reason" value={reason} onChange={(e) => setReason(e.target.value)} />
        </p>
      </Modal>
    </>
  );
}
