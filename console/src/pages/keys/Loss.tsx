import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Card, Input, Modal, Table } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, take } from "../../api/client";
import type { components } from "../../api/contract.gen";
import { useLoss } from "../../api/queries";
import { counted } from "../../format";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";

type Change = components["schemas"]["LossChange"];

/** What the loss of a key would do: its weight. */
export function Weight({ of }: { of: string }) {
  const loss = useLoss({ key: of });
  if (!loss.data) return null;
  const changes = loss.data.changes;
  return (
    <Card
      size="small"
      title="If it were lost"
      className="after-l"
      styles={{ body: { padding: changes.length ? 0 : undefined } }}
    >
      {changes.length > 0 && (
        <p className="menu-note">
          <InWords of={changes} />
        </p>
      )}
      <Changes of={changes} />
      <Behind of={loss.data.behind} />
    </Card>
  );
}

/** What else becomes less safe where keys are marked as lost in the course of a restore. */
export function LossElsewhere({ of, login }: { of: string[]; login: string }) {
  const loss = useLoss({ keys: of });
  const changes = loss.data?.changes.filter((c) => c.login !== login) ?? [];
  if (of.length === 0 || changes.length === 0) return null;
  return (
    <Card size="small" title="What it does elsewhere" className="after-l">
      <p>
        <InWords of={changes} />
      </p>
      <Changes of={changes} />
    </Card>
  );
}

export function InWords({ of }: { of: Change[] }) {
  const shut = of.filter((c) => c.after === "shut").length;
  return (
    <>
      {counted(of.length, "login")} would be less safe
      {shut > 0 && (
        <>
          , <strong>{shut} of them shut</strong>
        </>
      )}
      .
    </>
  );
}

/** What is reached by way of jump hosts whose logins would be less safe. */
function Behind({ of }: { of?: components["schemas"]["LossBehind"][] }) {
  return of?.map((b) => (
    <p key={b.jump_host}>
      <Link to={`/instances/${encodeURIComponent(b.jump_host)}`}>{b.jump_host}</Link> would be {b.after}. It is the jump
      host of {counted(b.instances, "instance")}: {b.names.join(", ")}
      {b.instances > b.names.length && " and others"}.
    </p>
  ));
}

function Changes({ of }: { of: Change[] }) {
  if (of.length === 0) return <>No login would be less safe than it is.</>;
  return (
    <Table<Change>
      size="small"
      rowKey="login"
      dataSource={of}
      pagination={of.length > 10 ? { pageSize: 10, size: "small" } : false}
      columns={[
        {
          title: "Login",
          key: "login",
          render: (_, c) => <Link to={`/logins/${encodeURIComponent(c.login)}`}>{c.login}</Link>,
        },
        { title: "Now", key: "before", render: (_, c) => <StateMark state={c.before} /> },
        { title: "Without", key: "after", render: (_, c) => <StateMark state={c.after} /> },
      ]}
    />
  );
}

/** Marks a key, or all that a holder has, as lost, after showing what that does to every login. */
export function MarkLost({ of, text }: { of: { key?: string; holder?: string }; text: string }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button danger={Boolean(of.holder)} onClick={() => setOpen(true)}>
        {text}
      </Button>
      {open && <LostDialog of={of} close={() => setOpen(false)} />}
    </>
  );
}

function LostDialog({ of, close }: { of: { key?: string; holder?: string }; close: () => void }) {
  const loss = useLoss(of);
  const [reason, setReason] = useState("");
  const queries = useQueryClient();
  const navigate = useNavigate();
  const keys = loss.data?.keys ?? [];
  const mark = useMutation({
    mutationFn: async () => {
      for (const key of keys) await take(api.POST("/keys/{key}/lost", { params: { path: { key } }, body: { reason } }));
    },
    onSuccess: () => {
      close();
      if (of.holder) void navigate("/rotations/plan?lost=true&urgent=true");
    },
    onSettled: () => void queries.invalidateQueries(),
  });
  const what = of.key ?? `all keys of ${of.holder ?? ""}`;
  return (
    <Modal
      open
      title={`Mark ${what} as lost?`}
      onCancel={close}
      okText="Mark it as lost"
      okButtonProps={{ danger: true, disabled: !reason || keys.length === 0 }}
      cancelText="Leave it"
      onOk={() => mark.mutate()}
      confirmLoading={mark.isPending}
      width={640}
    >
      {of.holder && (
        <p>
          {keys.length === 0 ? (
            `${of.holder} holds no active key.`
          ) : (
            <>
              Of this holder: <strong>{keys.join(", ")}</strong>.
            </>
          )}
        </p>
      )}
      <p>
        What is lost is granted nowhere again and counts nowhere as somebody&apos;s way in. The lines stay on the
        instances, and open them to anybody who has the keys, until you replace them
        {of.holder && ", which is the next page"}.
      </p>
      {loss.error && <ProblemNote error={loss.error} />}
      {loss.data && (
        <>
          {loss.data.changes.length > 0 && (
            <p>
              <InWords of={loss.data.changes} />
            </p>
          )}
          <Changes of={loss.data.changes} />
          <Behind of={loss.data.behind} />
        </>
      )}
      <p className="before-m">
        <label htmlFor="lost-reason">What happened, for the daybook</label>
        <Input
          id="lost-reason"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
          placeholder="tablet stolen at the pier"
        />
      </p>
      {mark.error && <ProblemNote error={mark.error} />}
    </Modal>
  );
}
