import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Card, Form, Input, Modal, Tag } from "antd";
import { useState } from "react";
import { api, take, type Login, type Way } from "../../api/client";
import { ProblemNote } from "../../parts/ProblemNote";

/** What lets somebody into a login beside keys, or is not known of that. One that is wanted is accepted here. */
export function Ways({ of: l, may }: { of: Login; may: boolean }) {
  const [accepting, setAccepting] = useState<Way>();
  const queries = useQueryClient();
  const withdraw = useMutation({
    mutationFn: (w: Way) =>
      take(api.POST("/ways", { body: { way: w.name ?? w.about, logins: [l.reach.login], withdraw: true } })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["reach"] }),
  });
  const ways = l.ways ?? [];
  if (ways.length === 0) return null;
  return (
    <Card size="small" title="What else lets somebody in" className="after-l">
      <ul className="list">
        {ways.map((w) => (
          <li key={w.kind + w.about}>
            {w.about}{" "}
            {w.accepted && (
              <>
                <Tag>{w.accepted}</Tag>
                {may && (
                  <Button size="small" loading={withdraw.isPending} onClick={() => withdraw.mutate(w)}>
                    No longer accept
                  </Button>
                )}
              </>
            )}
            {may && !w.accepted && w.kind !== "unread" && (
              <Button size="small" onClick={() => setAccepting(w)}>
                Accept
              </Button>
            )}
          </li>
        ))}
      </ul>
      {withdraw.error && <ProblemNote error={withdraw.error} />}
      {accepting && <AcceptDialog of={l} way={accepting} close={() => setAccepting(undefined)} />}
    </Card>
  );
}

function AcceptDialog({ of: l, way, close }: { of: Login; way: Way; close: () => void }) {
  const [reason, setReason] = useState("");
  const queries = useQueryClient();
  const accept = useMutation({
    mutationFn: () =>
      take(api.POST("/ways", { body: { way: way.name ?? way.about, logins: [l.reach.login], reason } })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["reach"] });
      close();
    },
  });
  return (
    <Modal
      open
      title={`Accept a way into ${l.reach.login}`}
      onCancel={close}
      okText="Accept it"
      okButtonProps={{ disabled: reason.trim() === "" }}
      confirmLoading={accept.isPending}
      onOk={() => accept.mutate()}
    >
      <p>{way.about}</p>
      <p>
        It stays listed with your name and reason, and is no longer counted as beyond the grants. Once it is not as it
        is now, it counts again.
      </p>
      <Form layout="vertical" onFinish={() => reason.trim() && accept.mutate()}>
        <Form.Item label="Reason, for the daybook">
          <Input value={reason} maxLength={200} onChange={(e) => setReason(e.target.value)} />
        </Form.Item>
      </Form>
      {accept.error && <ProblemNote error={accept.error} />}
    </Modal>
  );
}
