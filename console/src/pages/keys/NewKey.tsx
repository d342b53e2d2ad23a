import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Checkbox, Form, Input, Modal, Radio, Segmented, Select } from "antd";
import { useEffect, useState } from "react";
import { api, problemOf, requestKey, take, type Key, type KeyReading } from "../../api/client";
import { useKeepers } from "../../api/queries";
import { typeText } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { Facts } from "../../parts/Facts";
import { Findings } from "../../parts/Findings";
import { KeyGlyph } from "../../parts/KeyGlyph";
import { ProblemNote } from "../../parts/ProblemNote";
import { holdsPrivate } from "../../privateMarks";

type Way = "here" | "import" | "service";

interface Props {
  close: () => void;
  made?: (k: Key) => void;
}

const goodName = /^[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?$/;
const nameRules = [{ required: true, message: "Give it a name" }, { pattern: goodName, message: "1 to 64 of a-z 0-9 . _ - and no blank" }];

/** The dialog in which a key is made on one's own machine, imported, or made by the service. */
export function NewKey({ close, made }: Props) {
  const [way, setWay] = useState<Way>("here");
  const [handed, setHanded] = useState<{ of: Key; half: string }>();
  const queries = useQueryClient();
  const recorded = (k: Key) => {
    void queries.invalidateQueries({ queryKey: ["keys"] });
    made?.(k);
  };
  if (handed) return <HandOver {...handed} close={close} />;
  return (
    <Modal open title="New key" footer={null} onCancel={close} width={680} mask={{ closable: false }}>
      <Segmented<Way> block value={way} onChange={setWay} style={{ marginBottom: 16 }} options={[
        { value: "here", label: "Make it on my machine" },
        { value: "import", label: "Import a public key" },
        { value: "service", label: "Let the service make it" },
      ]} />
      {way === "here" && <MakeHere done={(k) => { recorded(k); close(); }} />}
      {way === "import" && <Import done={(k) => { recorded(k); close(); }} />}
      {way === "service" && <MakeByService done={(key, half) => { recorded(key); setHanded({ of: key, half }); }} />}
    </Modal>
  );
}

/** Shows the command to type, and notices when the key has been recorded. */
function MakeHere({ done }: { done: (k: Key) => void }) {
  const [name, setName] = useState("");
  const [type, setType] = useState("ed25519");
  const good = goodName.test(name);
  const key = useQuery({
    queryKey: ["keys", name, "awaited"], enabled: good, retry: false, refetchInterval: 2000, placeholderData: undefined,
    queryFn: () => take(api.GET("/keys/{key}", { params: { path: { key: name } } })),
  });
  const [begun] = useState(() => Date.now());
  const found = key.data;
  const fresh = found && new Date(found.created_at).getTime() > begun - 2000;
  return (
    <>
      <p>The private half is made on your machine and never leaves it; only the public half is sent.</p>
      <Form layout="vertical">
        <Form.Item label="Name" validateStatus={name && !good ? "error" : undefined} help={name && !good ? "1 to 64 of a-z 0-9 . _ - and no blank" : undefined}><Input autoFocus value={name} onChange={(e) => setName(e.target.value)} placeholder="atlas-deploy" /></Form.Item>
        <Form.Item label="Type"><Radio.Group value={type} onChange={(e) => setType(e.target.value as string)} options={[{ value: "ed25519", label: "ed25519" }, { value: "rsa", label: "rsa 3072 (Windows images take only rsa)" }, { value: "ecdsa", label: "ecdsa 256" }]} /></Form.Item>
      </Form>
      <p>Type this on your machine:</p>
      <CopyText block label="command" text={`plumlatch key new ${good ? name : "NAME"}${type === "ed25519" ? "" : ` -type ${type}`}`} />
      <div style={{ marginTop: 16 }} aria-live="polite">
        {found && !fresh && <Alert type="error" showIcon title={`There is a key named ${name} already. Choose another name.`} />}
        {found && fresh && <Alert type="success" showIcon title={`${name} is recorded: ${found.fingerprints.sha256}`} action={<Button type="primary" onClick={() => done(found)}>Go on</Button>} />}
        {!found && good && <Alert type="info" showIcon title={`Waiting for ${name} to be recorded…`} />}
      </div>
    </>
  );
}

interface ImportForm { name: string; public_key: string; comment: string; keeper?: string; purpose?: string }

function Import({ done }: { done: (k: Key) => void }) {
  const [form] = Form.useForm<ImportForm>();
  const text = (Form.useWatch("public_key", form) as string | undefined) ?? "";
  const [settled, setSettled] = useState("");
  useEffect(() => {
    const wait = setTimeout(() => setSettled(text), 300);
    return () => clearTimeout(wait);
  }, [text]);
  const secret = holdsPrivate(text);
  const reading = useQuery({
    queryKey: ["reading", settled], enabled: settled.trim() !== "" && !holdsPrivate(settled), retry: false, placeholderData: undefined, gcTime: 0,
    queryFn: () => take(api.POST("/keys/readings", { body: { public_key: settled } })),
  });
  const read = !secret && settled === text ? reading.data : undefined;
  useEffect(() => {
    if (read) form.setFieldValue("comment", read.comment);
  }, [read, form]);
  const save = useMutation({
    mutationFn: (v: ImportForm & { once: string }) => take(api.POST("/keys", {
      params: { header: { "Idempotency-Key": v.once } },
      body: { name: v.name, public_key: v.public_key, comment: v.comment ?? "", keeper: v.keeper, purpose: v.purpose || undefined },
    })),
    onSuccess: done,
  });
  return (
    <Form form={form} layout="vertical" requiredMark={false} onFinish={(v) => save.mutate({ ...v, once: requestKey() })}>
      <Form.Item name="name" label="Name" rules={nameRules}><Input autoFocus placeholder="marek-laptop" /></Form.Item>
      <Form.Item name="public_key" label="Public key: the one line of a .pub file, or RFC 4716, PEM, JWK" rules={[{ required: true, message: "Paste the public key" }]}>
        <Input.TextArea rows={4} spellCheck={false} placeholder="ssh-ed25519 AAAAC3Nza… comment" style={{ fontFamily: "monospace", fontSize: 13 }} />
      </Form.Item>
      {secret && <Alert type="error" showIcon role="alert" title="This is a private key. It stayed in this page and was not sent." description="Only the public half belongs here: it is in the file beside it that ends in .pub. If the private half went over a network before, by mail or chat, treat it as exposed and make a new pair." style={{ marginBottom: 16 }} />}
      {!secret && reading.error && settled === text && <div style={{ marginBottom: 16 }}><ProblemNote error={reading.error} /></div>}
      {read && <Read of={read} />}
      <Form.Item name="comment" label="Comment" extra="It often names a person and a laptop: change it, or empty it to drop it."><Input disabled={!read} /></Form.Item>
      <KeeperAndPurpose />
      {save.error && <Form.Item><ProblemNote error={save.error} /></Form.Item>}
      <Button type="primary" htmlType="submit" loading={save.isPending} disabled={!read || Boolean(read.known_as)}>Import it</Button>
    </Form>
  );
}

function Read({ of }: { of: KeyReading }) {
  return (
    <div style={{ display: "grid", gap: 10, marginBottom: 16 }}>
    <div style={{ display: "flex", gap: 14, alignItems: "center" }}>
      <KeyGlyph sha256={of.fingerprints.sha256} size={44} />
      <Facts of={[["Type", `${typeText(of.type, of.bits)} bits`], ["SHA-256", <code key="f" style={{ overflowWrap: "anywhere" }}>{of.fingerprints.sha256}</code>],
        ["Recorded as", of.known_as && <strong>{of.known_as}: this key is here already</strong>],
        ["Form", of.format === "line" ? "" : of.format], ["Repaired", of.notes.join("; ")]]} />
    </div>
    <Findings of={of.findings.filter((f) => f.code !== "comment-names")} />
    </div>
  );
}

function KeeperAndPurpose() {
  const keepers = useKeepers();
  return (
    <div style={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: "0 16px" }}>
      <Form.Item name="keeper" label="Keeper, who holds the private half"><Select allowClear showSearch placeholder="You" options={keepers.data?.map((k) => ({ value: k.name, label: `${k.name} (${k.title})` }))} /></Form.Item>
      <Form.Item name="purpose" label="Purpose"><Input placeholder="deploys of the atlas" /></Form.Item>
    </div>
  );
}

interface MakeForm { name: string; kind: string; keeper?: string; purpose?: string }

const kinds = [
  { value: "ed25519 256", label: "ed25519" },
  { value: "rsa 2048", label: "rsa 2048" }, { value: "rsa 3072", label: "rsa 3072" }, { value: "rsa 4096", label: "rsa 4096" },
  { value: "ecdsa 256", label: "ecdsa 256" }, { value: "ecdsa 384", label: "ecdsa 384" }, { value: "ecdsa 521", label: "ecdsa 521" },
];

function MakeByService({ done }: { done: (k: Key, half: string) => void }) {
  const make = useMutation({
    mutationFn: (v: MakeForm) => {
      const [type, bits] = v.kind.split(" ");
      return take(api.POST("/keys/made", { params: { header: { "Idempotency-Key": requestKey() } }, body: { name: v.name, type, bits: Number(bits), comment: v.name, keeper: v.keeper, purpose: v.purpose || undefined } }));
    },
    onSuccess: (m) => done(m.key, m.private_half),
    gcTime: 0, // the answer holds the private half
  });
  const problem = make.error && problemOf(make.error);
  return (
    <Form layout="vertical" requiredMark={false} initialValues={{ kind: "ed25519 256" }} onFinish={(v: MakeForm) => make.mutate(v)}>
      <Alert type="info" showIcon title="The private half is handed over once, as a download, and kept nowhere here. Making it on your own machine is safer." style={{ marginBottom: 16 }} />
      <Form.Item name="name" label="Name" rules={nameRules} validateStatus={problem?.field === "name" ? "error" : undefined}><Input autoFocus /></Form.Item>
      <Form.Item name="kind" label="Type"><Select options={kinds} /></Form.Item>
      <KeeperAndPurpose />
      {make.error && <Form.Item><ProblemNote error={make.error} /></Form.Item>}
      <Button type="primary" htmlType="submit" loading={make.isPending}>Make it and download the private half</Button>
    </Form>
  );
}

/** Hands the private half over and stays until the person says that it is saved. */
function HandOver({ of, half, close }: { of: Key; half: string; close: () => void }) {
  const [saved, setSaved] = useState(false);
  useEffect(() => {
    download(of.name, half);
    const stay = (e: BeforeUnloadEvent) => e.preventDefault();
    window.addEventListener("beforeunload", stay);
    return () => window.removeEventListener("beforeunload", stay);
  }, [of.name, half]);
  return (
    <Modal open title={`Save the private half of ${of.name} now`} closable={false} keyboard={false} mask={{ closable: false }} width={620}
      footer={<Button type="primary" disabled={!saved} onClick={close}>Close</Button>}>
      <p>The file <strong>{of.name}</strong> was downloaded. It is the only copy: when this dialog closes, nobody can get it here again.</p>
      <p>Put it where your SSH client finds it, readable by you alone:</p>
      <CopyText block label="commands" text={`mv ~/Downloads/${of.name} ~/.ssh/${of.name} && chmod 600 ~/.ssh/${of.name}`} />
      <p><Button onClick={() => download(of.name, half)}>Download it again</Button></p>
      <Checkbox checked={saved} onChange={(e) => setSaved(e.target.checked)}>I have saved the private half of {of.name}</Checkbox>
    </Modal>
  );
}

function download(name: string, half: string) {
  const url = URL.createObjectURL(new Blob([half], { type: "application/octet-stream" }));
  const a = document.createElement("a");
  a.href = url;
  a.download = name;
  a.click();
  setTimeout(() => URL.revokeObjectURL(url), 10_000);
}
