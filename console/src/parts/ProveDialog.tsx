import { useQueryClient } from "@tanstack/react-query";
import { App, Button, Modal } from "antd";
import { useState } from "react";
import { api, problemOf, take, type Key } from "../api/client";
import { counted } from "../format";
import { CopyText } from "./CopyText";
import { KeyFiles } from "./KeyFiles";
import { KeyName } from "./KeyName";
import { useRecords } from "./useRecords";
import { useHeldKeys } from "../privatekey/held";
import { sshsig, type OwnKey } from "../privatekey/key";

/** The namespace that challenges are signed in: a signature for anything else is in another. */
const namespace = "proof@plumlatch";

/** Signs what the service asks to be signed, after a look at whether it is just that, and hands the signature in. */
async function prove(key: Key, by: OwnKey): Promise<void> {
  const path = { key: key.name };
  const challenge = await take(api.POST("/keys/{key}/challenges", { params: { path } }));
  const lines = challenge.text.split("\n");
  if (
    challenge.namespace !== namespace ||
    lines[0] !== "I hold the private key of this key." ||
    !lines.includes(`fingerprint: ${by.sha256}`)
  )
    throw new Error("The service asks to sign something else than a proof for this key; nothing was signed");
  const signature = await sshsig(by, namespace, challenge.text);
  await take(api.POST("/keys/{key}/proofs", { params: { path }, body: { challenge: challenge.id, signature } }));
}

/** Takes private keys into the page and proves them by signatures that the browser makes. */
export default function ProveDialog({ of, among, close }: { of?: string; among?: string[]; close: () => void }) {
  const { message } = App.useApp();
  const queries = useQueryClient();
  const held = useHeldKeys();
  const records = useRecords(held);
  const [said, setSaid] = useState<Record<string, string>>({});
  const [busy, setBusy] = useState(false);
  const wanted = of ? [of] : among;
  const ready = held
    .map((by, n) => ({ by, key: records[n] }))
    .filter((r): r is { by: OwnKey; key: Key } => Boolean(r.key) && (!wanted || wanted.includes(r.key?.name ?? "")));
  const unknown = held.filter((_, n) => records[n] === null);
  const others = held.length - ready.length - unknown.length;
  const proveAll = async () => {
    setBusy(true);
    const now: Record<string, string> = {};
    for (const { by, key } of ready) {
      try {
        await prove(key, by);
        now[key.name] = "proved";
      } catch (e) {
        const p = problemOf(e);
        now[key.name] = e instanceof Error && p.code === "failed" ? e.message : p.detail;
      }
      setSaid({ ...now });
    }
    setBusy(false);
    await queries.invalidateQueries({ queryKey: ["reach"] });
    await queries.invalidateQueries({ queryKey: ["keys"] });
    if (Object.values(now).every((s) => s === "proved")) {
      void message.success(ready.length === 1 ? `${ready[0]!.key.name} is proved` : `${ready.length} keys are proved`);
      close();
    }
  };
  return (
    <Modal
      open
      title={of ? `Prove that you hold ${of}` : "Prove the keys that you hold"}
      footer={null}
      onCancel={close}
    >
      <KeyFiles />
      {ready.length > 0 && (
        <ul className="bare-list after-m">
          {ready.map(({ key }) => (
            <li key={key.name} className="row middle">
              <KeyName name={key.name} sha256={key.fingerprints.sha256} />
              {said[key.name] && <span role="status">{said[key.name]}</span>}
            </li>
          ))}
        </ul>
      )}
      {of && others > 0 && ready.length === 0 && <p>The files in this page are of other keys than {of}.</p>}
      {unknown.length > 0 && <p>{counted(unknown.length, "key")} in this page is not recorded here.</p>}
      <Button type="primary" disabled={ready.length === 0} loading={busy} onClick={() => void proveAll()}>
        {ready.length > 1 ? `Prove ${ready.length} keys` : "Prove it"}
      </Button>
      <p className="quiet before-l flush-end">
        A key inside a hardware key or an ssh-agent signs on your own machine, since browsers let it sign for websites
        alone: <CopyText text={`plumlatch prove ${of ?? "-with ~/.ssh"}`} label="command" />
      </p>
    </Modal>
  );
}
