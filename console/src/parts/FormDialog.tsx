import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Form, Modal } from "antd";
import type { ReactNode } from "react";
import type { Subject } from "../api/queries";
import { ProblemNote } from "./ProblemNote";

interface Props<V extends object, R> {
  title: string;
  /** What the button says. */
  act: string;
  send: (v: V) => Promise<R>;
  /** The part of what is known that is stale afterwards. */
  stale?: Subject;
  close: () => void;
  done?: (r: R) => void;
  initial?: Partial<V>;
  danger?: boolean;
  children: ReactNode;
}

/** A dialog with a form, that stays open until what it asks for was done. */
export function FormDialog<V extends object, R>({
  title,
  act,
  send,
  stale,
  close,
  done,
  initial,
  danger,
  children,
}: Props<V, R>) {
  const queries = useQueryClient();
  const look = () => stale && void queries.invalidateQueries({ queryKey: [stale] });
  const sending = useMutation({
    mutationFn: send,
    onSuccess: (r: R) => {
      look();
      close();
      done?.(r);
    },
    onError: look,
  });
  return (
    <Modal open title={title} footer={null} onCancel={close} destroyOnHidden>
      <Form<V> layout="vertical" requiredMark={false} initialValues={initial} onFinish={(v) => sending.mutate(v)}>
        {children}
        {sending.error && (
          <Form.Item>
            <ProblemNote error={sending.error} />
          </Form.Item>
        )}
        <Button type="primary" danger={danger} htmlType="submit" loading={sending.isPending}>
          {act}
        </Button>
      </Form>
    </Modal>
  );
}
