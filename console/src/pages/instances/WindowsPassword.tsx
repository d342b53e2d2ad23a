import { useMutation } from "@tanstack/react-query";
import { Button, Modal } from "antd";
import { useState } from "react";
import { api, take } from "../../api/client";
import { moment } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { KeyFiles } from "../../parts/KeyFiles";
import { ProblemNote } from "../../parts/ProblemNote";
import { forgetAll, useHeldKeys } from "../../privatekey/held";
import { fromBase64, textOf, toBase64 } from "../../privatekey/wire";

/** Opens the administrator's password of a Windows instance in this page, with the private key that fits. */
export function WindowsPassword({ of }: { of: string }) {
  const [asking, setAsking] = useState(false);
  return (
    <>
      <Button size="small" onClick={() => setAsking(true)}>
        Read the administrator's password
      </Button>
      {asking && <PasswordDialog of={of} close={() => setAsking(false)} />}
    </>
  );
}

function PasswordDialog({ of, close }: { of: string; close: () => void }) {
  const held = useHeldKeys();
  const path = { instance: of };
  const reading = useMutation({
    mutationFn: async () => {
      const p = await take(api.GET("/instances/{instance}/password", { params: { path } }));
      const key = held.find((k) => toBase64(k.blob) === p.public_key.split(" ")[1]);
      if (!key?.open) return { ...p, password: undefined };
      const password = textOf(await key.open(fromBase64(p.encrypted)));
      await take(api.POST("/instances/{instance}/password/readings", { params: { path } }));
      return { ...p, password };
    },
    gcTime: 0,
  });
  const p = reading.data;
  return (
    <Modal
      open
      title={`The administrator's password of ${of}`}
      footer={null}
      onCancel={() => {
        forgetAll();
        close();
      }}
    >
      <p>It is encrypted to an RSA key of the launch, and opened in this page with the private key of that.</p>
      <KeyFiles />
      {p && !p.password && (
        <p role="alert">
          None of the keys in this page opens it. It is encrypted to the key{" "}
          {p.public_key.split(" ").slice(2).join(" ") || p.public_key}.
        </p>
      )}
      {p?.password && (
        <>
          <CopyText block text={p.password} label="password" />
          <p className="quiet">Made {moment(p.made_at)}. That you opened it is in the daybook.</p>
        </>
      )}
      {reading.error && <ProblemNote error={reading.error} />}
      {!p?.password && (
        <Button
          type="primary"
          disabled={held.length === 0}
          loading={reading.isPending}
          onClick={() => reading.mutate()}
        >
          Open it
        </Button>
      )}
    </Modal>
  );
}
