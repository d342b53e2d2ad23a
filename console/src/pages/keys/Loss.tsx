import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Card, Input, Modal, Table } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Key } from "../../api/client";
import type { components } from "../../api/contract.gen";
import { useLoss } from "../../api/queries";
import { counted } from "../../format";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";

type Change = components["schemas"]["LossChange"];

/** What the loss of a key would do: its weight. */
export function Weight({ of }: { of: string }) {
  const loss = useLoss(of);
  if (!loss.data) return null;
  const shut = loss.data.filter((c) => c.after === "shut").length;
  return (
    <Card size="small" title="If it were lost" style={{ marginBottom: 16 }} styles={{ body: { padding: loss.data.length ? 0 : undefined } }}>
      {loss.data.length === 0 ? "No login would be less safe than it is." : <>
        <p style={{ margin: "8px 12px" }}>{counted(loss.data.length, "login")} would be less safe{shut > 0 && <>, <strong>{shut} of them shut</strong></>}.</p>
        <Changes of={loss.data} />
      </>}
    </Card>
  );
}

function Changes({ of }: { of: Change[] }) {
  return <Table<Change> size="small" rowKey="login" dataSource={of} pagination={of.length > 10 ? { pageSize: 10, size: "small" } : false} columns={[
    { title: "Login", key: "login", render: (_, c) => <Link to={`/logins/${encodeURIComponent(c.login)}`}>{c.login}</Link> },
    { title: "Now", key: "before", render: (_, c) => <StateMark state={c.before} /> },
    { title: "Without it", key: "after", render: (_, c) => <StateMark state={c.after} /> },
  ]} />;
}

/** Marks a key as lost, after showing what that does to every login. */
export function MarkLost({ of }: { of: Key }) {
  const [open, setOpen] = useState(false);
  return <><Button onClick={() => setOpen(true)}>Mark as lost</Button>{open && <LostDialog of={of} close={() => setOpen(false)} />}</>;
}

function LostDialog({ of, close }: { of: Key; close: () => void }) {
  const loss = useLoss(of.name);
  const [reason, setReason] = useState("");
  const queries = useQueryClient();
  const mark = useMutation({
    mutationFn: () => take(api.POST("/keys/{key}/lost", { params: { path: { key: of.name } }, body: { reason } })),
    onSuccess: () => { void queries.invalidateQueries(); close(); },
  });
  return (
    <Modal open title={`Mark ${of.name} as lost?`} onCancel={close} okText="Mark it as lost" okButtonProps={{ danger: true, disabled: !reason }} cancelText="Leave it" onOk={() => mark.mutate()} confirmLoading={mark.isPending} width={640}>
      <p>It is granted nowhere anew and counts nowhere as somebody&apos;s way in. Its lines stay on the instances until they are removed there.</p>
      {loss.data && loss.data.length > 0 && <Changes of={loss.data} />}
      {loss.data?.length === 0 && <p>No login is less safe without it.</p>}
      <p><label htmlFor="lost-reason">What happened, for the daybook</label><Input id="lost-reason" value={reason} onChange={(e) => setReason(e.target.value)} placeholder="tablet stolen at the pier" /></p>
      {mark.error && <ProblemNote error={mark.error} />}
    </Modal>
  );
}
