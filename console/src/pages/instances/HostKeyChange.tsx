import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Form, Input, Modal } from "antd";
import { useState } from "react";
import { api, take, type Instance, type ShownHostKey } from "../../api/client";
import { useMe } from "../../api/queries";
import { ProblemNote } from "../../parts/ProblemNote";

/** Asks a machine for its host keys again, and pins those that it shows now, with the reason why they changed. */
export function HostKeyChange({ of: i }: { of: Instance }) {
  const me = useMe();
  const [shown, setShown] = useState<ShownHostKey[]>();
  const ask = useMutation({
    mutationFn: () =>
      take(
        api.POST("/instances/adopted/host-keys", {
          body: { address: i.connection.address, port: i.connection.port, via: i.connection.via?.at(-1)?.instance },
        }),
      ),
    onSuccess: setShown,
  });
  if (me.data?.role === "viewer" || !i.connection.address) return null;
  return (
    <>
      <Button size="small" loading={ask.isPending} onClick={() => ask.mutate()}>
        Compare with what it shows now
      </Button>
      {ask.error && <ProblemNote error={ask.error} />}
      {shown && <PinDialog of={i} shown={shown} close={() => setShown(undefined)} />}
    </>
  );
}

function PinDialog({ of: i, shown, close }: { of: Instance; shown: ShownHostKey[]; close: () => void }) {
  const [reason, setReason] = useState("");
  const queries = useQueryClient();
  const pinned = i.connection.host_keys;
  const came = shown.filter((k) => !pinned.some((p) => p.sha256 === k.sha256));
  const went = pinned.filter((p) => !shown.some((k) => k.sha256 === p.sha256));
  const pin = useMutation({
    mutationFn: () =>
      take(
        api.POST("/instances/{instance}/host-keys", {
          params: { path: { instance: i.name } },
          body: {
            host_keys: shown.map((k) => k.line),
            learnt: "machine itself, as the service saw it, accepted by a person",
            reason: reason || undefined,
          },
        }),
      ),
    onSuccess: () => {
      void queries.invalidateQueries();
      close();
    },
  });
  if (came.length + went.length === 0)
    return (
      <Modal open title={`Host keys of ${i.name}`} onCancel={close} onOk={close} okText="Good">
        It shows the host keys that are pinned.
      </Modal>
    );
  return (
    <Modal
      open
      title={`${i.name} shows other host keys than those that are pinned`}
      onCancel={close}
      okText="Pin what it shows"
      okButtonProps={{ danger: true, disabled: reason.trim() === "" }}
      confirmLoading={pin.isPending}
      onOk={() => pin.mutate()}
      width={620}
    >
      <ul className="list">
        {came.map((k) => (
          <li key={k.sha256}>
            new: <code>{k.sha256}</code> {k.algorithm}
          </li>
        ))}
        {went.map((k) => (
          <li key={k.sha256}>
            no longer shown: <code>{k.sha256}</code> {k.algorithm}
          </li>
        ))}
      </ul>
      <p>
        Compare a new one with what another way tells: the machine&apos;s console, or the person who set it up. Grants
        and history stay, and the machine is read again.
      </p>
      <Form layout="vertical">
        <Form.Item label="Reason, for the daybook">
          <Input value={reason} maxLength={200} onChange={(e) => setReason(e.target.value)} />
        </Form.Item>
      </Form>
      {pin.error && <ProblemNote error={pin.error} />}
    </Modal>
  );
}
