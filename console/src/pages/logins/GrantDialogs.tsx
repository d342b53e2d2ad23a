import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Checkbox, Form, Input, Modal, Select } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, problemOf, requestKey, take, type EndBy, type Login, type Opening } from "../../api/client";
import { useKeys } from "../../api/queries";
import { CopyText } from "../../parts/CopyText";
import { ProblemNote } from "../../parts/ProblemNote";

interface GrantForm {
  key: string;
  reason?: string;
  until?: string;
  endBy: EndBy;
  limits?: string;
}

const endBys: { value: EndBy; label: string }[] = [
  { value: "both", label: "the service and the SSH server" },
  { value: "service", label: "the service, which removes the line" },
  { value: "line", label: "the SSH server, by an expiry-time in the line" },
];

/** The end of a day, given as 2026-12-31, in the time zone of this browser. */
const endOfDay = (day: string) => new Date(`${day}T23:59:59`).toISOString();

/** Grants the login to a key and has its line placed, which is a run to watch. */
export function GrantDialog({ login, close }: { login: Login; close: () => void }) {
  const [form] = Form.useForm<GrantForm>();
  const [search, setSearch] = useState("");
  const keys = useKeys({ q: search || undefined });
  const key = (Form.useWatch("key", form) as string | undefined) ?? "KEY";
  const until = Form.useWatch("until", form);
  const navigate = useNavigate();
  const queries = useQueryClient();
  const here = new Set(login.openers.filter((o) => o.status === "in place").map((o) => o.key.name));
  const grant = useMutation({
    mutationFn: (v: GrantForm & { once: string }) =>
      take(
        api.POST("/grants", {
          params: { header: { "Idempotency-Key": v.once } },
          body: {
            key: v.key,
            login: login.reach.login,
            reason: v.reason || undefined,
            until: v.until ? endOfDay(v.until) : undefined,
            end_by: v.until ? v.endBy : undefined,
            limits: v.limits?.trim() || undefined,
          },
        }),
      ),
    onSuccess: (g) => {
      void queries.invalidateQueries({ queryKey: ["reach"] });
      if (g.run) void navigate(`/runs/${g.run.id}`);
    },
  });
  return (
    <Modal
      open
      title={`Let a key in to ${login.reach.login}`}
      onCancel={close}
      okText="Place its line"
      onOk={() => form.submit()}
      confirmLoading={grant.isPending}
      okButtonProps={{ disabled: Boolean(login.no_means) }}
      width={620}
    >
      {login.no_means && (
        <Alert
          type="info"
          showIcon
          className="after-l"
          title={`The service cannot place the line: ${login.no_means}.`}
          description={
            <>
              From your machine, with a key that opens it:{" "}
              <CopyText text={`plumlatch grant add ${key} ${login.reach.login} -with FILE`} label="command" />
            </>
          }
        />
      )}
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={{ endBy: "both" }}
        onFinish={(v) => grant.mutate({ ...v, once: requestKey() })}
      >
        <Form.Item name="key" label="Key" rules={[{ required: true, message: "Choose a key" }]}>
          <Select
            showSearch
            filterOption={false}
            onSearch={setSearch}
            placeholder="the key of a co-worker, or a second one of yours"
            options={keys.rows
              .filter((k) => !here.has(k.name) && k.state === "active" && !k.steward)
              .map((k) => ({ value: k.name, label: `${k.name} (${k.holder?.name ?? "nobody"})` }))}
          />
        </Form.Item>
        <div className="columns two-one">
          <Form.Item name="reason" label="Why, for the daybook">
            <Input placeholder="cover for ines in May" />
          </Form.Item>
          <Form.Item name="until" label="Until the end of">
            <Input type="date" />
          </Form.Item>
        </div>
        <Form.Item
          name="limits"
          label="Limited to"
          extra="Options as sshd(8) writes them before a key; empty for none."
        >
          <Input placeholder='from="192.0.2.0/24",no-pty' className="code" />
        </Form.Item>
        {until && (
          <Form.Item name="endBy" label="Ended by">
            <Select options={endBys} />
          </Form.Item>
        )}
      </Form>
      {grant.error && <ProblemNote error={grant.error} />}
    </Modal>
  );
}

/** Withdraws a key from a login. Where that leaves it shut or thin, it asks again, with a reason. */
export function WithdrawDialog({ login, opening, close }: { login: Login; opening: Opening; close: () => void }) {
  const [reason, setReason] = useState("");
  const [anyway, setAnyway] = useState(false);
  const navigate = useNavigate();
  const queries = useQueryClient();
  const withdraw = useMutation({
    mutationFn: () =>
      take(
        api.POST("/grants/withdrawals", {
          body: {
            key: opening.key.name,
            login: login.reach.login,
            reason: reason || undefined,
            anyway: anyway || undefined,
          },
        }),
      ),
    onSuccess: (g) => {
      void queries.invalidateQueries({ queryKey: ["reach"] });
      if (g.run) void navigate(`/runs/${g.run.id}`);
    },
  });
  const stops = withdraw.error && problemOf(withdraw.error).code.startsWith("would-be-");
  return (
    <Modal
      open
      title={`Remove ${opening.key.name} from ${login.reach.login}?`}
      onCancel={close}
      okText={anyway ? "Remove it anyway" : "Remove its line"}
      okButtonProps={{ danger: true, disabled: (anyway && !reason) || Boolean(login.no_means) }}
      cancelText="Leave it"
      onOk={() => withdraw.mutate()}
      confirmLoading={withdraw.isPending}
    >
      {login.no_means && (
        <Alert
          type="info"
          showIcon
          className="after-l"
          title={`The service cannot remove the line: ${login.no_means}.`}
          description={
            <>
              From your machine, with another key that opens it:{" "}
              <CopyText
                text={`plumlatch grant withdraw ${opening.key.name} ${login.reach.login} -with FILE`}
                label="command"
              />
            </>
          }
        />
      )}
      <p>
        Its line is taken out of the file; all other lines stay byte for byte. A person with only this key does not get
        in now.
      </p>
      <p>
        <label htmlFor="withdraw-reason">Why, for the daybook</label>
        <Input id="withdraw-reason" value={reason} onChange={(e) => setReason(e.target.value)} />
      </p>
      {withdraw.error && <ProblemNote error={withdraw.error} />}
      {stops && (
        <p>
          <Checkbox checked={anyway} onChange={(e) => setAnyway(e.target.checked)}>
            Continue anyway, with the reason above
          </Checkbox>
        </p>
      )}
    </Modal>
  );
}
