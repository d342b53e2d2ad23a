import { Alert, Button, Form, Input, Upload } from "antd";
import { useState } from "react";
import { counted } from "../format";
import { mostBytes, readPrivateKey } from "../privatekey/file";
import { forgetAll, holdHere, useHeldKeys } from "../privatekey/held";
import { KeyFileError } from "../privatekey/key";
import { KeyGlyph } from "./KeyGlyph";

/** A private key file as it was chosen. */
interface Chosen {
  name: string;
  text: string;
}

interface Refused {
  name: string;
  why: string;
}

/** How many files of a folder are looked at. */
const mostFiles = 200;

/**
 * Takes private key files into this page, where the browser signs with them. Nothing of them is sent: what the page
 * sends are signatures. With a folder, what is no private key is passed over in silence.
 */
export function KeyFiles() {
  const held = useHeldKeys();
  const [locked, setLocked] = useState<Chosen[]>([]);
  const [refused, setRefused] = useState<Refused[]>([]);
  const [pasted, setPasted] = useState("");
  const [busy, setBusy] = useState(false);

  const read = async (files: Chosen[], passphrase: string, folder: boolean) => {
    setBusy(true);
    const stillLocked: Chosen[] = [];
    const not: Refused[] = [];
    for (const f of files) {
      try {
        holdHere(await readPrivateKey(f.text, passphrase));
      } catch (e) {
        const code = e instanceof KeyFileError ? e.code : "damaged";
        if (code === "passphrase-needed" || code === "passphrase-wrong") stillLocked.push(f);
        if (code !== "passphrase-needed" && !(folder && (code === "no-key" || code === "public")))
          not.push({ name: f.name, why: e instanceof Error ? e.message : String(e) });
      }
    }
    setLocked((before) => [...before.filter((b) => !files.some((f) => f.name === b.name)), ...stillLocked]);
    setRefused(not);
    setBusy(false);
  };

  const take = async (files: File[], folder: boolean) => {
    const small = files.filter((f) => f.size <= mostBytes).slice(0, mostFiles);
    const chosen = await Promise.all(small.map(async (f) => ({ name: f.name, text: await f.text() })));
    await read(chosen, "", folder);
    if (!folder && small.length < files.length)
      setRefused((r) => [...r, { name: counted(files.length - small.length, "file"), why: "too large for a key" }]);
  };

  // Upload tells each file apart, with all that were chosen beside it.
  const chosen = (folder: boolean) => (file: File, all: File[]) => {
    if (file === all[0]) void take(all, folder);
    return false;
  };

  return (
    <div className="stack gap-m after-l">
      <Upload.Dragger multiple showUploadList={false} beforeUpload={chosen(false)}>
        <p className="flush">Drop private key files here, or choose them</p>
        <p className="flush quiet">They stay in this page: the browser signs, and only signatures are sent.</p>
      </Upload.Dragger>
      <div className="row middle many">
        <Upload directory showUploadList={false} beforeUpload={chosen(true)}>
          <Button size="small">Choose a folder, such as .ssh</Button>
        </Upload>
        {held.length > 0 && (
          <Button size="small" onClick={forgetAll}>
            Forget {counted(held.length, "key")} in this page
          </Button>
        )}
      </div>
      <Input.TextArea
        aria-label="Or paste a private key"
        placeholder="Or paste a private key"
        autoComplete="off"
        spellCheck={false}
        rows={2}
        value={pasted}
        onChange={(e) => {
          const text = e.target.value;
          setPasted(/-----END [A-Z ]+-----|Private-MAC:/.test(text) ? "" : text);
          if (/-----END [A-Z ]+-----|Private-MAC:/.test(text))
            void read([{ name: "The pasted text", text }], "", false);
        }}
      />
      {locked.length > 0 && (
        <Form
          layout="inline"
          requiredMark={false}
          colon={false}
          onFinish={({ passphrase }: { passphrase: string }) => void read(locked, passphrase, false)}
          aria-label="Unlock"
        >
          <Form.Item
            name="passphrase"
            label={`Passphrase of ${locked.map((l) => l.name).join(", ")}`}
            rules={[{ required: true, message: "Give the passphrase" }]}
          >
            <Input.Password autoComplete="off" />
          </Form.Item>
          <Button htmlType="submit" loading={busy}>
            Unlock
          </Button>
        </Form>
      )}
      {refused.map((r) => (
        <Alert key={r.name} type="warning" showIcon title={`${r.name}: ${r.why}`} />
      ))}
      {held.length > 0 && (
        <ul className="bare-list">
          {held.map((k) => (
            <li key={k.sha256} className="row middle">
              <KeyGlyph sha256={k.sha256} />
              <span>{k.comment || k.type}</span>
              <span className="code quiet anywhere">{k.sha256}</span>
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}
