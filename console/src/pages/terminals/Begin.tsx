import { useMutation } from "@tanstack/react-query";
import { Button, Card, Form, Input, Radio, Select } from "antd";
import { useState } from "react";
import { api, take, type Key, type Visit, type VisitWay } from "../../api/client";
import { useKeysNamed, useLogin } from "../../api/queries";
import { AskConsent } from "../../parts/AskConsent";
import { KeyFiles } from "../../parts/KeyFiles";
import { Loading } from "../../parts/Loading";
import { ProblemNote } from "../../parts/ProblemNote";
import { useRecords } from "../../parts/useRecords";
import { useHeldKeys } from "../../privatekey/held";
import { makeKey, type OwnKey } from "../../privatekey/key";
import { toBase64 } from "../../privatekey/wire";
import { ways } from "./ends";

/** Asks by what a visit authenticates, and begins it. */
export function Begin({ login, begun }: { login: string; begun: (v: Visit, by?: OwnKey) => void }) {
  const of = useLogin(login);
  const openers = of.data?.openers.filter((o) => !o.steward && o.key_state === "active") ?? [];
  const keys = useKeysNamed(openers.map((o) => o.key.name));
  if (of.error) return <ProblemNote error={of.error} />;
  if (!of.data) return <Loading />;
  const kept = keys.filter((k) => k.custody === "kept");
  return <BeginForm login={login} opens={openers.map((o) => o.key.name)} kept={kept} begun={begun} />;
}

interface FormProps {
  login: string;
  opens: string[];
  kept: Key[];
  begun: (v: Visit, by?: OwnKey) => void;
}

interface Values {
  key?: string;
  reason?: string;
}

function BeginForm({ login, opens, kept, begun }: FormProps) {
  const [way, setWay] = useState<VisitWay>("own-key");
  const [form] = Form.useForm<Values>();
  const held = useHeldKeys();
  const records = useRecords(held);
  const own = held.flatMap((by, n) => (records[n] ? [{ by, key: records[n] }] : []));
  const best = own.find((o) => opens.includes(o.key.name)) ?? own[0];
  const [chosen, setChosen] = useState<string>();
  const using = own.find((o) => o.key.name === chosen) ?? best;
  const begin = useMutation({
    mutationFn: async (v: Values) => {
      if (way === "visit-key") {
        const by = await makeKey("visit");
        const public_key = `${by.type} ${toBase64(by.blob)} visit`;
        const body = { login, way, public_key, reason: v.reason || undefined };
        return { visit: await take(api.POST("/visits", { body })), by };
      }
      const key = way === "own-key" ? using!.key.name : v.key!;
      const visit = await take(api.POST("/visits", { body: { login, way, key, reason: v.reason || undefined } }));
      return { visit, by: way === "own-key" ? using!.by : undefined };
    },
    onSuccess: ({ visit, by }) => begun(visit, by),
  });
  const offered: VisitWay[] = ["own-key", "visit-key", ...(kept.length > 0 ? (["kept-key"] as const) : [])];
  return (
    <Card size="small" className="page">
      <Form<Values> form={form} layout="vertical" requiredMark={false} onFinish={(v) => begin.mutate(v)}>
        <Form.Item label="By which key">
          <Radio.Group value={way} onChange={(e) => setWay(e.target.value as VisitWay)}>
            {offered.map((w) => (
              <div key={w} className="after-s">
                <Radio value={w} aria-describedby={`way-${w}`} className="strong">
                  {ways[w].name}
                </Radio>
                <div id={`way-${w}`} className="quiet indented">
                  {ways[w].note}
                </div>
              </div>
            ))}
          </Radio.Group>
        </Form.Item>
        {way === "own-key" && <KeyFiles />}
        {way === "own-key" && own.length > 1 && (
          <Form.Item label="Key to use">
            <Select
              value={using?.key.name}
              onChange={setChosen}
              options={own.map((o) => ({
                value: o.key.name,
                label: opens.includes(o.key.name) ? `${o.key.name}, which opens it` : o.key.name,
              }))}
            />
          </Form.Item>
        )}
        {way === "own-key" && using && !opens.includes(using.key.name) && (
          <p>{using.key.name} is not known to open this login; the SSH server decides.</p>
        )}
        {way === "own-key" && held.length > 0 && own.length === 0 && !records.includes(undefined) && (
          <p>None of these keys is recorded here. Import its public key first.</p>
        )}
        {way === "kept-key" && (
          <Form.Item name="key" label="Key in the safe" rules={[{ required: true, message: "Choose a key" }]}>
            <Select options={kept.map((k) => ({ value: k.name, label: k.name }))} />
          </Form.Item>
        )}
        <Form.Item
          name="reason"
          label="Why, for the daybook"
          rules={[{ required: way === "kept-key", message: "Say why" }]}
        >
          <Input />
        </Form.Item>
        {begin.error && (
          <Form.Item>
            <ProblemNote error={begin.error} />
          </Form.Item>
        )}
        <Button
          type="primary"
          htmlType="submit"
          loading={begin.isPending}
          disabled={way === "own-key" && using === undefined}
        >
          Open the terminal
        </Button>{" "}
        {way === "kept-key" && (
          <AskConsent
            after={begin.error}
            of={form.getFieldValue("key") as string}
            reason={() => form.getFieldValue("reason") as string}
          />
        )}
      </Form>
    </Card>
  );
}
