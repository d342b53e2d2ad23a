import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Checkbox, Form, Input, Modal, Radio, Select } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, requestKey, take, type RouteOption, type Routes } from "../../api/client";
import { useKeys, useLogin } from "../../api/queries";
import { counted } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { MoreChoices } from "../../parts/MoreChoices";
import { LossElsewhere } from "../keys/Loss";
import { ProblemNote } from "../../parts/ProblemNote";

interface StartForm {
  make: boolean;
  key?: string;
  name?: string;
  lost?: string[];
  reason?: string;
  confirm?: string;
  stop_first?: boolean;
  ports?: string;
  new_name?: string;
}

/** Chooses the new key and the lost ones, and begins the restore by one way. */
export function StartDialog({
  routes,
  option,
  limits,
  close,
  begun,
  others,
}: {
  routes: Routes;
  option: RouteOption;
  limits: { max_downtime?: string; keep_address?: string; no_stop?: string };
  close: () => void;
  /** Takes the run that has begun; its page is opened without it. */
  begun?: (run: string) => void;
  /** Whether to lead to the other ways. */
  others?: boolean;
}) {
  const [form] = Form.useForm<StartForm>();
  const [search, setSearch] = useState("");
  const keys = useKeys({ q: search || undefined });
  const login = useLogin(routes.login);
  const navigate = useNavigate();
  const queries = useQueryClient();
  const make = Form.useWatch("make", form) as boolean | undefined;
  const confirmed: string | undefined = Form.useWatch("confirm", form);
  const stops = option.stops || option.new_identity;
  const replaces = option.route === "replacement";
  const here = login.data?.openers.filter((o) => !o.steward && o.status !== "missing").map((o) => o.key.name) ?? [];
  const start = useMutation({
    mutationFn: (v: StartForm & { once: string }) =>
      take(
        api.POST("/restores", {
          params: { header: { "Idempotency-Key": v.once } },
          body: {
            login: routes.login,
            route: option.route,
            key: (v.make ? v.name : v.key) ?? "",
            make: v.make || undefined,
            lost: v.lost ?? [],
            reason: v.reason || undefined,
            confirm: stops ? v.confirm : undefined,
            max_downtime: limits.max_downtime ? Number(limits.max_downtime) : undefined,
            keep_address: limits.keep_address === "true" || undefined,
            no_stop: limits.no_stop === "true" || undefined,
            ...(replaces
              ? {
                  stop_first: v.stop_first || undefined,
                  new_name: v.new_name || undefined,
                  ports: v.ports
                    ? v.ports
                        .split(/[\s,]+/)
                        .filter(Boolean)
                        .map(Number)
                    : undefined,
                }
              : {}),
          },
        }),
      ),
    onSuccess: (r) => {
      void queries.invalidateQueries({ queryKey: ["restores"] });
      if (begun) begun(r.run.id);
      else void navigate(`/restores/${r.run.id}`);
    },
  });
  const lost = Form.useWatch("lost", form);
  const possible = routes.routes.filter((o) => o.possible).length;
  return (
    <Modal
      open
      width={680}
      title={`Get back into ${routes.login}: ${option.title.toLowerCase()}`}
      onCancel={close}
      okText="Begin"
      cancelText="Leave it"
      confirmLoading={start.isPending}
      okButtonProps={{ danger: stops, disabled: stops && confirmed !== routes.instance }}
      onOk={() => form.submit()}
    >
      {stops && (
        <Alert
          type="error"
          showIcon
          className="after-l"
          title={
            option.new_identity
              ? `Another instance takes the place of ${routes.instance}.`
              : `${routes.instance} is stopped.`
          }
          description={
            <ul className="list">
              {[
                ...option.changes.map((c) => `Afterwards: ${c}`),
                ...option.loses.map((l) => `Lost: ${l}`),
                `Undone: ${option.undo}`,
              ].map((t) => (
                <li key={t}>{t}</li>
              ))}
            </ul>
          }
        />
      )}
      {others && (
        <p>
          It is the best of {counted(possible, "way")} back in: {option.summary}.{" "}
          <Link to={`/logins/${encodeURIComponent(routes.login)}/routes`} className="in-text">
            Compare them
          </Link>
        </p>
      )}
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={{ make: true, name: `${routes.instance}-new`, lost: routes.lost.map((k) => k.name) }}
        onFinish={(v) => start.mutate({ ...v, once: requestKey() })}
      >
        {make !== false && (
          <Form.Item
            name="name"
            label="Name of the new key"
            rules={[{ required: true, message: "Give it a name" }]}
            extra="The service makes it, logs in itself, and keeps it in its safe for you."
          >
            <Input />
          </Form.Item>
        )}
        {here.length > 0 && option.route !== "windows-password" && (
          <Form.Item
            name="lost"
            label={
              "Lost keys: their lines go after a login with the new key was completed, and they are marked as lost " +
              "everywhere"
            }
          >
            <Checkbox.Group options={here} />
          </Form.Item>
        )}
        <LossElsewhere of={lost ?? []} login={routes.login} />
        <Form.Item name="reason" label="Why, for the daybook">
          <Input placeholder="the laptop with the only key was stolen" />
        </Form.Item>
        <MoreChoices>
          <Form.Item name="make" label="The new key" className="after-s">
            <Radio.Group
              options={[
                { value: true, label: "is made by the service, which logs in itself and keeps it in its safe for you" },
                { value: false, label: "exists already, in somebody's hands" },
              ]}
              className="stack gap-xs"
            />
          </Form.Item>
          {make === false && (
            <Form.Item
              name="key"
              label="Which key"
              rules={[{ required: true, message: "Choose a key" }]}
              extra={
                <>
                  To make one on your machine:{" "}
                  <CopyText
                    text={`plumlatch restore start ${routes.login} -route ${option.route} -new NAME`}
                    label="command"
                  />
                </>
              }
            >
              <Select
                showSearch
                filterOption={false}
                onSearch={setSearch}
                options={keys.rows
                  .filter((k) => k.state === "active" && !k.steward)
                  .map((k) => ({ value: k.name, label: `${k.name} (${k.holder?.name ?? "nobody"})` }))}
              />
            </Form.Item>
          )}
          {replaces && (
            <div className="pair">
              <Form.Item name="new_name" label="Name of the new instance">
                <Input placeholder={`${routes.instance}-2`} />
              </Form.Item>
              <Form.Item name="ports" label="TCP ports at which it has to answer">
                <Input placeholder="22, 443" />
              </Form.Item>
              <Form.Item name="stop_first" valuePropName="checked" className="whole-row">
                <Checkbox>Stop it before its image is made, so that nothing written is lost</Checkbox>
              </Form.Item>
            </div>
          )}
        </MoreChoices>
        {stops && (
          <Form.Item
            name="confirm"
            label={
              <span>
                Type <strong>{routes.instance}</strong> to continue
              </span>
            }
          >
            <Input autoComplete="off" aria-label="The instance's name" />
          </Form.Item>
        )}
      </Form>
      {start.error && <ProblemNote error={start.error} />}
    </Modal>
  );
}
