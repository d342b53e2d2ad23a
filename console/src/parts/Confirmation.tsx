import { useMutation } from "@tanstack/react-query";
import { App, Button, Form, Input, Modal } from "antd";
import { useEffect, useState } from "react";
import { api, confirmBy, take } from "../api/client";
import type { components } from "../api/contract.gen";
import { answerByPasskey, passkeysHere } from "../passkey";
import { ProblemNote } from "./ProblemNote";

/**
 * Asks for the password once more, or for a code, where the service wants it before it does something. factor is
 * whether there is a second factor.
 */
export function Confirmation({ factor }: { factor: boolean }) {
  const { message } = App.useApp();
  const [ended, setEnded] = useState<(confirmed: boolean) => void>();
  useEffect(() => {
    confirmBy(
      () =>
        new Promise((resolve) =>
          setEnded((before?: (confirmed: boolean) => void) => (confirmed: boolean) => {
            before?.(confirmed);
            resolve(confirmed);
          }),
        ),
    );
    return () => confirmBy(undefined);
  }, []);
  const sending = useMutation({
    mutationFn: (body: components["schemas"]["Confirmation"]) => take(api.POST("/session/confirmation", { body })),
    onSuccess: () => end(true),
  });
  const end = (confirmed: boolean) => {
    ended?.(confirmed);
    setEnded(undefined);
    sending.reset();
  };
  const byPasskey = async () => {
    try {
      sending.mutate({ passkey: await answerByPasskey() });
    } catch (e) {
      void message.error((e as Error).message);
    }
  };
  if (!ended) return null;
  return (
    <Modal open title="Is it still you?" footer={null} onCancel={() => end(false)} zIndex={1100} destroyOnHidden>
      <p>
        Making tokens, second factors, passwords and accounts, taking out a kept key, an override and ending
        somebody&apos;s access take {factor ? "your password, a code" : "your password"} or a passkey, given within the
        last 10 minutes.
      </p>
      <Form
        layout="vertical"
        requiredMark={false}
        onFinish={(v: { password?: string; code?: string }) =>
          sending.mutate(v.code ? { code: v.code } : { password: v.password })
        }
      >
        <Form.Item name="password" label="Your password">
          <Input.Password autoFocus autoComplete="current-password" />
        </Form.Item>
        {factor && (
          <Form.Item name="code" label="Or a code of your second factor">
            <Input autoComplete="one-time-code" />
          </Form.Item>
        )}
        {sending.error && (
          <Form.Item>
            <ProblemNote error={sending.error} />
          </Form.Item>
        )}
        <span className="inline">
          <Button type="primary" htmlType="submit" loading={sending.isPending}>
            It is me
          </Button>
          {passkeysHere && <Button onClick={() => void byPasskey()}>By a passkey</Button>}
        </span>
      </Form>
    </Modal>
  );
}
