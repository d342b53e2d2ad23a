import { useMutation } from "@tanstack/react-query";
import { Alert, Button, Checkbox, Form, Input, Modal, Select } from "antd";
import { useEffect, useState } from "react";
import { api, problemOf, requestKey, take, type Key } from "../../api/client";
import type { components } from "../../api/contract.gen";
import { CopyText } from "../../parts/CopyText";
import { ProblemNote } from "../../parts/ProblemNote";
import { newRecipient } from "../../privatekey/recipient";
import { HolderAndPurpose, nameRules } from "./HolderAndPurpose";

interface MakeForm {
  name: string;
  kind: string;
  format: NonNullable<Body["format"]>;
  passphrase?: string;
  holder?: string;
  purpose?: string;
}

type Body = components["schemas"]["MakeKey"];

/** A private key in the file that it is handed over in. */
export interface Handed {
  of: Key;
  privateKey: string;
  file: string;
}

const formats: { value: MakeForm["format"]; label: string; use: string }[] = [
  {
    value: "openssh",
    label: "OpenSSH's own",
    use: "For ssh, scp and sftp on Linux, macOS and Windows, and most others.",
  },
  {
    value: "pem",
    label: "PEM, PKCS#1 or SEC1",
    use: "For older programs and libraries that want BEGIN RSA or BEGIN EC PRIVATE KEY. Not for ed25519.",
  },
  {
    value: "pkcs8",
    label: "PEM, PKCS#8",
    use: "For Java, Go and OpenSSL programs. OpenSSH reads it for rsa and ecdsa.",
  },
  { value: "ppk3", label: ".ppk version 3", use: "For Windows clients that read .ppk files." },
  { value: "ppk2", label: ".ppk version 2", use: "For Windows clients from before 2021, which do not read version 3." },
];

const kinds = [
  { value: "ed25519 256", label: "ed25519" },
  { value: "rsa 2048", label: "rsa 2048" },
  { value: "rsa 3072", label: "rsa 3072" },
  { value: "rsa 4096", label: "rsa 4096" },
  { value: "ecdsa 256", label: "ecdsa 256" },
  { value: "ecdsa 384", label: "ecdsa 384" },
  { value: "ecdsa 521", label: "ecdsa 521" },
];

/** Has the service make a pair, whose private key is handed over once. */
export function MakeByService({ done }: { done: (made: Handed) => void }) {
  const make = useMutation({
    mutationFn: async ({ once, ...v }: MakeForm & { once: string }) => {
      const [type, bits] = v.kind.split(" ");
      const recipient = await newRecipient();
      const made = await take(
        api.POST("/keys/made", {
          params: { header: { "Idempotency-Key": once } },
          body: {
            name: v.name,
            type,
            bits: Number(bits),
            comment: v.name,
            format: v.format,
            passphrase: v.passphrase || undefined,
            holder: v.holder,
            purpose: v.purpose || undefined,
            recipient: recipient.text,
          },
        }),
      );
      return { ...made, private_key: await recipient.open(made.key.name, made.private_key) };
    },
    onSuccess: (m) => done({ of: m.key, privateKey: m.private_key, file: m.file_name }),
    gcTime: 0, // the answer has the private key in it
  });
  const problem = make.error && problemOf(make.error);
  return (
    <Form
      layout="vertical"
      requiredMark={false}
      initialValues={{ kind: "ed25519 256", format: "openssh" }}
      onFinish={(v: MakeForm) => make.mutate({ ...v, once: requestKey() })}
    >
      <Alert
        type="info"
        showIcon
        title={
          "The private key is handed over once, encrypted on its way to this page, and kept nowhere here. Making it " +
          "on your own machine is safer."
        }
        className="after-l"
      />
      <Form.Item
        name="name"
        label="Name"
        rules={nameRules}
        validateStatus={problem?.field === "name" ? "error" : undefined}
      >
        <Input autoFocus />
      </Form.Item>
      <div className="pair of-fields">
        <Form.Item name="kind" label="Type" extra="Windows images take only rsa.">
          <Select options={kinds} />
        </Form.Item>
        <Form.Item name="passphrase" label="Passphrase for the file, if wanted">
          <Input.Password autoComplete="new-password" />
        </Form.Item>
      </div>
      <Form.Item name="format" label="Format of the private key">
        <Select
          options={formats}
          optionRender={(o) => (
            <>
              <div>{o.data.label}</div>
              <div className="faint wraps">{o.data.use}</div>
            </>
          )}
        />
      </Form.Item>
      <HolderAndPurpose />
      {make.error && (
        <Form.Item>
          <ProblemNote error={make.error} />
        </Form.Item>
      )}
      <Button type="primary" htmlType="submit" loading={make.isPending}>
        Make it and download the private key
      </Button>
    </Form>
  );
}

/** Hands the private key over and stays until the person says that it is saved. */
export function HandOver({ of, privateKey, file, close }: Handed & { close: () => void }) {
  const [saved, setSaved] = useState(false);
  useEffect(() => {
    download(file, privateKey);
    const stay = (e: BeforeUnloadEvent) => e.preventDefault();
    window.addEventListener("beforeunload", stay);
    return () => window.removeEventListener("beforeunload", stay);
  }, [file, privateKey]);
  return (
    <Modal
      open
      title={`Save the private key of ${of.name} now`}
      closable={false}
      keyboard={false}
      mask={{ closable: false }}
      width={620}
      footer={
        <Button type="primary" disabled={!saved} onClick={close}>
          Close
        </Button>
      }
    >
      <p>
        The file <strong>{file}</strong> was downloaded. It is the only copy: when this dialog closes, nobody can get it
        here again.
      </p>
      <p>Put it where your SSH client finds it, readable by you alone:</p>
      <CopyText block label="commands" text={`mv ~/Downloads/${file} ~/.ssh/${file} && chmod 600 ~/.ssh/${file}`} />
      <p>
        <Button onClick={() => download(file, privateKey)}>Download it again</Button>
      </p>
      <Checkbox checked={saved} onChange={(e) => setSaved(e.target.checked)}>
        I have saved the private key of {of.name}
      </Checkbox>
    </Modal>
  );
}

function download(name: string, privateKey: string) {
  const url = URL.createObjectURL(new Blob([privateKey], { type: "application/octet-stream" }));
  const a = document.createElement("a");
  a.href = url;
  a.download = name;
  a.click();
  setTimeout(() => URL.revokeObjectURL(url), 10_000);
}
