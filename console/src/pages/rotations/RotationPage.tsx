import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, Card, Input, Modal, Segmented } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, take, type Rotation, type RotationItem } from "../../api/client";
import { useMe, useRotation, useRotationItems } from "../../api/queries";
import { counted, graceText, itemStates, moment, rotated, took } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { EmptyNote } from "../../parts/EmptyNote";
import { Facts } from "../../parts/Facts";
import { Loading } from "../../parts/Loading";
import type { Column } from "../../parts/list/column";
import { PagedTable } from "../../parts/list/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";
import { usePlace } from "../../parts/usePlace";
import { Counts } from "./Counts";

/** A rotation, live: how far it is, what each login waits for, and what can be done about it. */
export default function RotationPage() {
  const { id = "" } = useParams();
  const { get, set } = usePlace();
  const rotation = useRotation(id);
  const live = Boolean(rotation.data && !rotation.data.ended_at);
  const items = useRotationItems(id, get("state"), live);
  const me = useMe();
  if (rotation.error) return <ProblemNote error={rotation.error} again={() => void rotation.refetch()} />;
  if (!rotation.data) return <Loading />;
  const r = rotation.data;
  const may = Boolean(me.data && me.data.role !== "viewer");
  const t = r.settings;
  return (
    <>
      <PageHead
        title={`${r.urgent ? "Urgent rotation" : "Rotation"} of ${rotated(r)}`}
        note={<StateMark state={r.state} />}
      >
        <Link to={`/rotations/${r.id}/report`}>
          <Button>Report</Button>
        </Link>
        {may && <Changes of={r} />}
      </PageHead>
      <div className="stack">
        {r.paused_why && (
          <Alert
            type="warning"
            showIcon
            title={`Paused: ${r.paused_why}.`}
            description={
              "Nothing further begins until it is resumed; every login is open by its old key, its new one, or " +
              "both."
            }
          />
        )}
        {(r.counts.placed ?? 0) > 0 && live && (
          <Alert
            type="info"
            showIcon
            title={
              `${counted(r.counts.placed ?? 0, "login")} await a login with the new key, ` +
              "from a person with its private key."
            }
            description={<CopyText text={`plumlatch rotate watch ${r.id}`} label="command" />}
          />
        )}
        {(r.counts.asked ?? 0) > 0 && live && (
          <Alert
            type="info"
            showIcon
            title={
              `${counted(r.counts.asked ?? 0, "login")} wait for new public keys ` + "that holders are asked to bring."
            }
            description={<Link to="/rotations/asked">See who is asked for what</Link>}
          />
        )}
        {live &&
          items.rows.some((i) => i.means === "from here" && ["waiting", "proved", "undoing"].includes(i.state)) && (
            <Alert
              type="info"
              showIcon
              title="Some logins are edited from the machine of somebody who has the old private key."
              description={<CopyText text={`plumlatch rotate watch ${r.id} -from-here -with FILE`} label="command" />}
            />
          )}
        <Card size="small">
          <div aria-live="polite">
            <Counts of={r} bar />
          </div>
        </Card>
        <Card size="small">
          <Facts
            of={[
              ["Asked for by", `${r.rule ? `the rule ${r.rule}` : r.requested_by}, ${moment(r.created_at)}`],
              ["Why", r.reason],
              ["Ended", r.ended_at && `${moment(r.ended_at)}, after ${took(r.created_at, r.ended_at)}`],
              ["First group", t.first && counted(t.first, "login")],
              ["At once", t.at_once],
              ["Pauses after", t.stop_after && counted(t.stop_after, "failure")],
              ["Only between", t.between && `${t.between} ${t.zone ?? "UTC"}`],
              [
                "Grace",
                t.grace_seconds
                  ? graceText(t.grace_seconds)
                  : "none: the old key goes once the new one has opened the login",
              ],
            ]}
          />
        </Card>
        <Segmented
          value={get("state") ?? "all"}
          onChange={(v) => set("state", v === "all" ? undefined : v)}
          options={["all", ...itemStates.filter((s) => (r.counts[s] ?? 0) > 0)]}
          className="at-start"
        />
        <Card size="small" styles={{ body: { padding: 0 } }}>
          <PagedTable<RotationItem>
            pages={items}
            noun="key line"
            rowKey={(i) => `${i.login} ${i.old} ${i.new}`}
            columns={columns(may && live, r)}
            empty={<EmptyNote text="None is in this state." />}
          />
        </Card>
      </div>
    </>
  );
}

const what = (i: RotationItem) => (i.due_at ? `the old key is removed on ${moment(i.due_at)}` : i.detail);

const columns = (may: boolean, r: Rotation): Column<RotationItem>[] => [
  {
    title: "Login",
    key: "login",
    text: (i) => i.login,
    render: (i) => <Link to={`/logins/${encodeURIComponent(i.login)}`}>{i.login}</Link>,
  },
  {
    title: "Old key",
    key: "old",
    text: (i) => i.old,
    render: (i) => <Link to={`/keys/${encodeURIComponent(i.old)}`}>{i.old}</Link>,
  },
  {
    title: "New key",
    key: "new",
    text: (i) => i.new,
    render: (i) => <Link to={`/keys/${encodeURIComponent(i.new)}`}>{i.new}</Link>,
  },
  { title: "By", key: "by", text: (i) => i.means },
  { title: "State", key: "state", text: (i) => i.state, render: (i) => <StateMark state={i.state} /> },
  {
    title: "What",
    key: "what",
    text: what,
    render: (i) => <span className="block-text wide">{what(i)}</span>,
  },
  {
    title: "Actions",
    unseen: true,
    key: "do",
    align: "right",
    render: (i) => (
      <span className="inline">
        {i.run && (
          <Link to={`/runs/${i.run}`}>
            <Button size="small">Its steps</Button>
          </Link>
        )}
        {may && ["asked", "waiting", "placed", "proved"].includes(i.state) && (
          <ChangeOne
            of={r}
            login={i.login}
            change="undo"
            text={i.state === "waiting" || i.state === "asked" ? "Leave it out" : "Undo"}
          />
        )}
        {may && i.state === "failed" && <ChangeOne of={r} login={i.login} change="retry" text="Try again" />}
        {may && r.urgent && (i.state === "placed" || i.state === "failed") && <Override of={r} item={i} />}
      </span>
    ),
  },
];

type Change = "pause" | "resume" | "undo" | "retry" | "override";

function useChange(of: Rotation) {
  const queries = useQueryClient();
  const { message } = App.useApp();
  return useMutation({
    mutationFn: (v: { change: Change; login?: string; reason?: string }) =>
      take(api.POST("/rotations/{rotation}/changes", { params: { path: { rotation: of.id } }, body: v })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["rotations"] }),
    onError: (e) => void message.error(e.message),
  });
}

function ChangeOne({ of, login, change, text }: { of: Rotation; login: string; change: Change; text: string }) {
  const do_ = useChange(of);
  return (
    <Button size="small" loading={do_.isPending} onClick={() => do_.mutate({ change, login })}>
      {text}
    </Button>
  );
}

/**
 * The one way round the rule that a line goes only after a login with another key: by the login's name, with a
 * reason.
 */
function Override({ of, item }: { of: Rotation; item: RotationItem }) {
  const change = useChange(of);
  const [asking, setAsking] = useState(false);
  const [named, setNamed] = useState("");
  const [reason, setReason] = useState("");
  return (
    <>
      <Button size="small" danger onClick={() => setAsking(true)}>
        Override
      </Button>
      <Modal
        open={asking}
        title={`Remove ${item.old} from ${item.login} without a login?`}
        okText="Remove it"
        okButtonProps={{ danger: true, disabled: named !== item.login || !reason.trim() }}
        cancelText="Leave it"
        onCancel={() => setAsking(false)}
        onOk={() => {
          change.mutate({ change: "override", login: item.login, reason });
          setAsking(false);
        }}
      >
        <p>
          Nobody has logged in with {item.new}. If it does not open {item.login}, the login is shut afterwards. This is
          for a lost or compromised key alone, and is in the daybook and in the report.
        </p>
        <p>
          <label htmlFor="override-login">Type the login's name</label>
          <Input
            id="override-login"
            value={named}
            placeholder={item.login}
            onChange={(e) => setNamed(e.target.value)}
          />
        </p>
        <p>
          <label htmlFor="override-reason">Why, for the daybook</label>
          <Input id="override-reason" value={reason} onChange={(e) => setReason(e.target.value)} />
        </p>
      </Modal>
    </>
  );
}

function Changes({ of }: { of: Rotation }) {
  const change = useChange(of);
  const [undoing, setUndoing] = useState(false);
  const [reason, setReason] = useState("");
  const n = (s: string) => of.counts[s] ?? 0;
  return (
    <>
      {n("failed") > 0 && of.state !== "undoing" && of.state !== "undone" && (
        <Button loading={change.isPending} onClick={() => change.mutate({ change: "retry" })}>
          Try the failed again
        </Button>
      )}
      {of.state === "running" && <Button onClick={() => change.mutate({ change: "pause" })}>Pause</Button>}
      {of.state === "paused" && (
        <Button type="primary" onClick={() => change.mutate({ change: "resume" })}>
          Resume
        </Button>
      )}
      {!of.ended_at && of.state !== "undoing" && (
        <Button danger onClick={() => setUndoing(true)}>
          Undo
        </Button>
      )}
      <Modal
        open={undoing}
        title="Undo this rotation?"
        okText="Undo it"
        okButtonProps={{ danger: true }}
        cancelText="Let it continue"
        onCancel={() => setUndoing(false)}
        onOk={() => {
          change.mutate({ change: "undo", reason: reason || undefined });
          setUndoing(false);
        }}
      >
        <p>
          Afterwards: in {counted(n("placed") + n("proved") + n("placing"), "login")} the new key is taken out again and
          the old one opens them as before; {n("waiting") + n("asked")} that wait are left as they are;{" "}
          {counted(n("done"), "login")} stay replaced, since their old key is gone.
        </p>
        <p>
          <label htmlFor="undo-reason">Why, for the daybook</label>
          <Input id="undo-reason" value={reason} onChange={(e) => setReason(e.target.value)} />
        </p>
      </Modal>
    </>
  );
}
