import { useMutation, useQuery } from "@tanstack/react-query";
import { Alert, Button, Form, Input } from "antd";
import { useEffect, useState } from "react";
import { api, requestKey, take, type Key, type KeyReading } from "../../api/client";
import { typeText } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { Facts } from "../../parts/Facts";
import { Findings } from "../../parts/Findings";
import { KeyGlyph } from "../../parts/KeyGlyph";
import { ProblemNote } from "../../parts/ProblemNote";
import { holdsPrivate, publicKeyOf } from "../../privateMarks";
import { useSettled } from "../../parts/useSettled";
import { HolderAndPurpose, nameRules } from "./HolderAndPurpose";

const maxKeyBytes = 64 * 1024;

interface ImportForm {
  name: string;
  public_key: string;
  comment: string;
  holder?: string;
  purpose?: string;
}

/** Shows live what a pasted or dropped text is, and records it. */
export function Import({ done }: { done: (k: Key) => void }) {
  const [form] = Form.useForm<ImportForm>();
  const text = (Form.useWatch("public_key", form) as string | undefined) ?? "";
  const settled = useSettled(text, 300);
  const secret = holdsPrivate(text);
  const [derived, setDerived] = useState(false);
  // Only the public key stays in the box, and only that is ever sent.
  const put = (value: string) => {
    const privateKey = holdsPrivate(value) ? publicKeyOf(value) : undefined;
    setDerived(privateKey !== undefined);
    form.setFieldValue("public_key", privateKey ?? value);
  };
  const drop = (files: FileList) => {
    const file = files[0];
    if (!file) return;
    if (file.size > maxKeyBytes)
      form.setFields([
        { name: "public_key", errors: [`${file.name} has ${file.size} bytes; one key has at most ${maxKeyBytes}`] },
      ]);
    else void file.text().then(put);
  };
  const reading = useQuery({
    queryKey: ["reading", settled],
    enabled: settled.trim() !== "" && !holdsPrivate(settled),
    retry: false,
    gcTime: 0,
    queryFn: () => take(api.POST("/keys/readings", { body: { public_key: settled } })),
  });
  const read = !secret && settled === text ? reading.data : undefined;
  useEffect(() => {
    if (read) form.setFieldValue("comment", read.comment);
  }, [read, form]);
  const save = useMutation({
    mutationFn: (v: ImportForm & { once: string }) =>
      take(
        api.POST("/keys", {
          params: { header: { "Idempotency-Key": v.once } },
          body: {
            name: v.name,
            public_key: v.public_key,
            comment: v.comment ?? "",
            holder: v.holder,
            purpose: v.purpose || undefined,
          },
        }),
      ),
    onSuccess: done,
  });
  return (
    <Form
      form={form}
      layout="vertical"
      requiredMark={false}
      onFinish={(v) => save.mutate({ ...v, once: requestKey() })}
    >
      <Form.Item name="name" label="Name" rules={nameRules}>
        <Input autoFocus placeholder="marek-laptop" />
      </Form.Item>
      <Form.Item
        name="public_key"
        label="Public key: the one line of a .pub file, or RFC 4716, PEM, JWK"
        extra="Paste it, or drop its file here."
        rules={[{ required: true, message: "Paste the public key" }]}
      >
        <Input.TextArea
          rows={4}
          spellCheck={false}
          onChange={(e) => put(e.target.value)}
          onDragOver={(e) => e.preventDefault()}
          onDrop={(e) => {
            if (e.dataTransfer.files.length) {
              e.preventDefault();
              drop(e.dataTransfer.files);
            }
          }}
          placeholder="ssh-ed25519 AAAAC3Nza… comment"
          className="code"
        />
      </Form.Item>
      {derived && (
        <Alert
          type="success"
          showIcon
          title={
            "That was a private key. Its public key was derived in this page; only that is in the box and only " +
            "that is sent."
          }
          description={
            "If the private key went over a network before, by mail or chat, treat it as exposed and make a new " +
            "pair."
          }
          className="after-l"
        />
      )}
      {secret && (
        <Alert
          type="error"
          showIcon
          role="alert"
          title="This is a private key. It stayed in this page and was not sent."
          description={
            <>
              Its format is not read here. Derive the public key on your machine, and paste that:{" "}
              <CopyText label="command" text="plumlatch key public FILE" />
              <br />
              If the private key went over a network before, by mail or chat, treat it as exposed and make a new pair.
            </>
          }
          className="after-l"
        />
      )}
      {!secret && reading.error && settled === text && (
        <div className="after-l">
          <ProblemNote error={reading.error} />
        </div>
      )}
      {read && <Read of={read} />}
      <Form.Item
        name="comment"
        label="Comment"
        extra="It often names a person and a laptop: change it, or empty it to drop it."
      >
        <Input disabled={!read} />
      </Form.Item>
      <HolderAndPurpose />
      {save.error && (
        <Form.Item>
          <ProblemNote error={save.error} />
        </Form.Item>
      )}
      <Button type="primary" htmlType="submit" loading={save.isPending} disabled={!read || Boolean(read.known_as)}>
        Import it
      </Button>
    </Form>
  );
}

function Read({ of }: { of: KeyReading }) {
  return (
    <div className="stack gap-s after-l">
      <div className="row gap-m middle">
        <KeyGlyph sha256={of.fingerprints.sha256} size={44} />
        <Facts
          of={[
            ["Type", `${typeText(of.type, of.bits)} bits`],
            [
              "SHA-256",
              <code key="f" className="anywhere">
                {of.fingerprints.sha256}
              </code>,
            ],
            ["Recorded as", of.known_as && <strong>{of.known_as}: this key is here already</strong>],
            ["Form", of.format === "line" ? "" : of.format],
            ["Repaired", of.notes.join("; ")],
          ]}
        />
      </div>
      <Findings of={of.findings.filter((f) => f.code !== "comment-names")} />
    </div>
  );
}
