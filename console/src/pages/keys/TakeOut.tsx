import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Form, Input, Modal } from "antd";
import { useState } from "react";
import { api, take, type Key } from "../../api/client";
import { AskConsent } from "../../parts/AskConsent";
import { ProblemNote } from "../../parts/ProblemNote";
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
          }}
        />
      )}
      {privateKey && <HandOver of={of} privateKey={privateKey} file={of.name} close={() => setPrivateKey(undefined)} />}
    </>
  );
}

function TakeOutDialog({ of, close, done }: { of: Key; close: () => void; done: (privateKey: string) => void }) {
  const queries = useQueryClient();
  const out = useMutation({
    mutationFn: async ({ reason }: { reason: string }) => {
      const recipient = await newRecipient();
      const encrypted = await take(
        api.POST("/keys/{key}/private-key", {
          params: { path: { key: of.name }, query: { reason } },
          body: { recipient: recipient.text },
          parseAs: "text",
        }),
      );
      return recipient.open(of.name, encrypted);
    },
    onSuccess: (text) => {
      void queries.invalidateQueries({ queryKey: ["keys"] });
      done(text);
    },
    gcTime: 0, // the answer is the private key
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
        {out.error && (
          <Form.Item>
            <ProblemNote error={out.error} />
          </Form.Item>
        )}
        <div className="row">
          <Button type="primary" htmlType="submit" loading={out.isPending}>
            Take it out
          </Button>
          <AskConsent
            after={out.error}
            of={of.name}
            reason={() => form.getFieldValue("reason") as string}
            done={close}
          />
        </div>
      </Form>
    </Modal>
  );
}
