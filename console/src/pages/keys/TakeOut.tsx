import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App, Button, Form, Input, Modal } from "antd";
import { useState } from "react";
import { api, problemOf, take, type Key } from "../../api/client";
import { ProblemNote } from "../../parts/ProblemNote";
import { readPrivateKey } from "../../privatekey/file";
import { holdHere } from "../../privatekey/held";
import { newRecipient } from "../../privatekey/recipient";
import { HandOver } from "./MakeByService";

/** Hands a kept private key over, once: encrypted to a key of this page, and opened in it. */
export function TakeOut({ of }: { of: Key }) {
  const [asking, setAsking] = useState(false);
  const [privateKey, setPrivateKey] = useState<string>();
  return (
    <>
      <Button size="small" onClick={() => setAsking(true)}>
        Take the private key out
      </Button>
      {asking && (
        <TakeOutDialog
          of={of}
          close={() => setAsking(false)}
          done={(text) => {
            setAsking(false);
            setPrivateKey(text);
            void readPrivateKey(text, "").then(holdHere, () => {});
          }}
        />
      )}
      {privateKey && <HandOver of={of} privateKey={privateKey} file={of.name} close={() => setPrivateKey(undefined)} />}
    </>
  );
}

function TakeOutDialog({ of, close, done }: { of: Key; close: () => void; done: (privateKey: string) => void }) {
  const { message } = App.useApp();
  const queries = useQueryClient();
  const out = useMutation({
    mutationFn: async ({ reason }: { reason: string }) => {
      const recipient = await newRecipient();
      const sealed = await take(
        api.POST("/keys/{key}/private-key", {
          params: { path: { key: of.name }, query: { reason } },
          body: { recipient: recipient.text },
          parseAs: "text",
        }),
      );
      return recipient.open(of.name, sealed);
    },
    onSuccess: (text) => {
      void queries.invalidateQueries({ queryKey: ["keys"] });
      done(text);
    },
    gcTime: 0, // the answer is the private key
  });
  const consent = useMutation({
    mutationFn: (reason: string) => take(api.POST("/consents", { body: { key: of.name, reason } })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["consents"] });
      void message.success("Somebody else is asked to consent; come back once they have", 8);
      close();
    },
  });
  const [form] = Form.useForm<{ reason: string }>();
  return (
    <Modal open title={`Take the private key of ${of.name} out of the safe`} footer={null} onCancel={close}>
      <p>
        It is handed over once, to you, and the safe keeps no copy for anybody else. It is encrypted on its way to this
        page.
      </p>
      <Form form={form} layout="vertical" requiredMark={false} onFinish={(v) => out.mutate(v)}>
        <Form.Item name="reason" label="Why, for the daybook" rules={[{ required: true, message: "Say why" }]}>
          <Input autoFocus />
        </Form.Item>
        {(out.error ?? consent.error) && (
          <Form.Item>
            <ProblemNote error={consent.error ?? out.error} />
          </Form.Item>
        )}
        <div className="row">
          <Button type="primary" htmlType="submit" loading={out.isPending}>
            Take it out
          </Button>
          {out.error && problemOf(out.error).code === "consent-needed" && (
            <Button loading={consent.isPending} onClick={() => consent.mutate(form.getFieldValue("reason") as string)}>
              Ask for consent
            </Button>
          )}
        </div>
      </Form>
    </Modal>
  );
}
