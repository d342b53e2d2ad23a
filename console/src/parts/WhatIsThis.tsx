import { useQuery } from "@tanstack/react-query";
import { Alert, Button, Input, Modal } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Traced } from "../api/client";
import { holdsPrivate } from "../privateMarks";
import { KeyName } from "./KeyName";
import { ProblemNote } from "./ProblemNote";

/** A box on every page: paste a fingerprint or a public key, and see which record it is. */
export function WhatIsThis() {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button type="text" style={{ color: "#fff" }} onClick={() => setOpen(true)}>What is this?</Button>
      {open && <Box close={() => setOpen(false)} />}
    </>
  );
}

function Box({ close }: { close: () => void }) {
  const [text, setText] = useState("");
  const secret = holdsPrivate(text);
  const trace = useQuery({
    queryKey: ["trace", text], enabled: text.trim() !== "" && !secret, retry: false, placeholderData: undefined, gcTime: 0,
    queryFn: () => take(api.POST("/traces", { body: { text } })),
  });
  return (
    <Modal open title="What is this?" footer={null} onCancel={close} width={720}>
      <p>Paste a fingerprint in any notation, or a public key in any form.</p>
      <Input.TextArea autoFocus rows={3} spellCheck={false} aria-label="A fingerprint or a public key" value={text} onChange={(e) => setText(e.target.value)} placeholder="SHA256:…, 8a:fd:55:…, ssh-ed25519 AAAA…" style={{ fontFamily: "monospace", fontSize: 13 }} />
      <div style={{ marginTop: 16, display: "grid", gap: 12 }} aria-live="polite">
        {secret && <Alert type="error" showIcon role="alert" title="This is a private key. It stayed in this page and was not sent." description="On your own machine, plumlatch trace FILE derives the public half and asks with that." />}
        {!secret && trace.error && <ProblemNote error={trace.error} />}
        {!secret && trace.data && <p style={{ margin: 0 }}>Read as {trace.data.read_as}.</p>}
        {!secret && trace.data?.matches.map((m) => <Match key={m.kind + m.name} of={m} close={close} />)}
        {!secret && trace.data?.matches.length === 0 && <Alert type="warning" showIcon title="Nothing that is recorded matches." description={`Compared with: ${trace.data.compared.join("; ")}.`} />}
      </div>
    </Modal>
  );
}

function Match({ of, close }: { of: Traced; close: () => void }) {
  if (of.kind === "host key") {
    return <div>It is a host key of <Link to={`/instances/${encodeURIComponent(of.name)}`} onClick={close}>{of.name}</Link> ({of.matched}).</div>;
  }
  const logins = of.logins ?? [];
  return (
    <div>
      <div onClick={close}>It is the key <KeyName name={of.name} sha256={of.key?.fingerprints.sha256 ?? ""} /> of {of.key?.keeper?.name ?? "nobody"} ({of.matched}).</div>
      <div style={{ marginTop: 6 }}>{logins.length === 0 ? "It opens nothing." : <>It opens {logins.slice(0, 12).map((o, i) => (
        <span key={o.login}>{i > 0 && ", "}<Link to={`/instances/${encodeURIComponent(o.instance)}`} onClick={close}>{o.login}</Link></span>
      ))}{logins.length > 12 && ` and ${(of.key?.opens ?? logins.length) - 12} more`}.</>}</div>
    </div>
  );
}
