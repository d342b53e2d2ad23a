import { useMutation } from "@tanstack/react-query";
import { Alert, Button, Card, Checkbox, Form, Input, InputNumber, Radio, Select, Table, Typography } from "antd";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, requestKey, take, type RotationPlan, type RotationWanted } from "../../api/client";
import { useKeepers, useKeys } from "../../api/queries";
import { counted, typeText } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";

interface PlanForm {
  keys?: string[]; keeper?: string; type?: string; older_days?: number; weaker_than?: string; shared?: boolean; lost?: boolean; label?: string; region?: string;
  source: "service" | "here" | "existing"; each: "key" | "instance"; to?: string;
}
interface SettingsForm { first?: number; stop_after?: number; between?: string; zone?: string; grace_hours?: number; reason?: string }

const wantedOf = (v: PlanForm): RotationWanted => ({
  keys: v.keys?.length ? v.keys : undefined, keeper: v.keeper, type: v.type, older_days: v.older_days || undefined, weaker_than: v.weaker_than || undefined, shared: v.shared || undefined, lost: v.lost || undefined,
  label: v.label || undefined, region: v.region || undefined, each: v.source === "existing" ? "key" : v.each, to: v.source === "existing" ? v.to : undefined,
});

/** A rotation in three steps: what, the plan as a preview, and how. */
export default function Plan() {
  const [params] = useSearchParams();
  const [form] = Form.useForm<PlanForm>();
  const source = (Form.useWatch("source", form) as PlanForm["source"] | undefined) ?? "service";
  const [search, setSearch] = useState("");
  const keys = useKeys({ q: search || undefined });
  const keepers = useKeepers();
  const plan = useMutation({ mutationFn: (v: PlanForm) => take(api.POST("/rotations/plans", { body: wantedOf(v) })) });
  const options = keys.rows.filter((k) => !k.steward).map((k) => ({ value: k.name, label: `${k.name} (${k.keeper?.name ?? "nobody"}, ${counted(k.opens, "login")})` }));
  return (
    <>
      <PageHead title="Plan a rotation" note="nothing is changed before you start it" />
      <div style={{ display: "grid", gap: 16, maxWidth: 1180 }}>
        <Form<PlanForm> form={form} layout="vertical" requiredMark={false} initialValues={{ source: "service", each: "key", keys: params.getAll("key") }} onFinish={(v) => plan.mutate(v)} onValuesChange={() => plan.reset()}>
          <Card size="small" title="1  Which keys, where, and what takes their place" style={{ marginBottom: 16 }}>
            <div style={{ display: "grid", gridTemplateColumns: "2fr 1fr 1fr 1fr", gap: "0 16px" }}>
              <Form.Item name="keys" label="Keys"><Select mode="multiple" showSearch={{ filterOption: false, onSearch: setSearch }} placeholder="any that fit the rest" options={options} /></Form.Item>
              <Form.Item name="keeper" label="Of the keeper"><Select allowClear showSearch placeholder="any" options={keepers.data?.map((k) => ({ value: k.name, label: k.name }))} /></Form.Item>
              <Form.Item name="older_days" label="Older than, days"><InputNumber min={1} style={{ width: "100%" }} placeholder="180" /></Form.Item>
              <Form.Item name="weaker_than" label="Weaker than"><Input placeholder="rsa3072" /></Form.Item>
              <Form.Item name="label" label="On instances with the label"><Input placeholder="team=cameras" /></Form.Item>
              <Form.Item name="region" label="In the region"><Input placeholder="south-marsh" /></Form.Item>
              <Form.Item name="type" label="Of the type"><Select allowClear placeholder="any" options={["ed25519", "rsa", "ecdsa"].map((t) => ({ value: t, label: t }))} /></Form.Item>
              <div style={{ display: "grid", alignContent: "center" }}>
                <Form.Item name="shared" valuePropName="checked" noStyle><Checkbox>on more than one instance</Checkbox></Form.Item>
                <Form.Item name="lost" valuePropName="checked" noStyle><Checkbox>marked as lost</Checkbox></Form.Item>
              </div>
            </div>
            <div style={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 16 }}>
              <Form.Item name="source" label="In their place" style={{ marginBottom: 0 }}>
                <Radio.Group style={{ display: "grid", gap: 4 }} options={[
                  { value: "service", label: "new keys that the service makes and keeps in its safe; their keepers take them out" },
                  { value: "here", label: "new keys made on your machine, by the client" },
                  { value: "existing", label: "a key that exists" },
                ]} />
              </Form.Item>
              {source === "existing"
                ? <Form.Item name="to" label="Which" rules={[{ required: true, message: "Choose the key" }]} style={{ marginBottom: 0 }}><Select showSearch={{ filterOption: false, onSearch: setSearch }} options={options} /></Form.Item>
                : <Form.Item name="each" label="One new key" style={{ marginBottom: 0 }}><Radio.Group style={{ display: "grid", gap: 4 }} options={[{ value: "key", label: "for each old key, wherever it stands" }, { value: "instance", label: "for each instance, which ends sharing" }]} /></Form.Item>}
            </div>
          </Card>
          {plan.error && <Form.Item><ProblemNote error={plan.error} /></Form.Item>}
          {!plan.data && <Button type="primary" htmlType="submit" loading={plan.isPending}>Show the plan</Button>}
        </Form>
        {plan.data && <Preview of={plan.data} />}
        {plan.data && plan.data.logins > 0 && (source === "here"
          ? <Card size="small" title="3  Start it where the private halves are to be"><CopyText block text={commandFor(wantedOf(form.getFieldsValue()))} label="command" /></Card>
          : <Start plan={plan.data} wanted={wantedOf(form.getFieldsValue())} make={source === "existing" ? "none" : "service"} />)}
      </div>
    </>
  );
}

function Preview({ of }: { of: RotationPlan }) {
  const going = of.items.filter((i) => !i.left_out);
  const left = of.items.filter((i) => i.left_out);
  return (
    <Card size="small" title={`2  The plan: ${counted(of.logins, "login")} on ${counted(of.instances, "instance")} change, ${of.left_out} left out, ${counted(of.new_keys.length, "new key")}`} styles={{ body: { padding: 0 } }}>
      {of.items.length === 0 && <div style={{ padding: 16 }}>No such key stands anywhere.</div>}
      {going.length > 0 && (
        <Table size="small" rowKey={(i) => `${i.login} ${i.old}`} dataSource={going} pagination={going.length > 20 ? { pageSize: 20, showSizeChanger: false } : false} columns={[
          { title: "Login", dataIndex: "login" }, { title: "Old key", dataIndex: "old" }, { title: "Keeper", render: (_, i) => i.keeper ?? "nobody" }, { title: "New key", dataIndex: "new" }, { title: "By", dataIndex: "means" },
          { title: "Reach now", render: (_, i) => <StateMark state={i.reach_before} /> }, { title: "Reach after", render: (_, i) => i.reach_after && <StateMark state={i.reach_after} /> },
        ]} />
      )}
      {left.length > 0 && (
        <>
          <Typography.Title level={5} style={{ margin: "12px 12px 4px" }}>Left out</Typography.Title>
          <Table size="small" rowKey={(i) => `${i.login} ${i.old}`} dataSource={left} pagination={left.length > 20 ? { pageSize: 20, showSizeChanger: false } : false} columns={[
            { title: "Login", dataIndex: "login" }, { title: "Key", dataIndex: "old" }, { title: "Why", dataIndex: "left_out" }, { title: "What to do about it", dataIndex: "remedy" },
          ]} />
        </>
      )}
      {of.new_keys.length > 0 && <div style={{ padding: 12 }}>New keys: {of.new_keys.slice(0, 12).map((k) => `${k.name} (${typeText(k.type, k.bits)}, ${k.keeper ?? "nobody"})`).join("; ")}{of.new_keys.length > 12 ? "; …" : ""}</div>}
    </Card>
  );
}

function Start({ plan, wanted, make }: { plan: RotationPlan; wanted: RotationWanted; make: "service" | "none" }) {
  const navigate = useNavigate();
  const start = useMutation({
    mutationFn: ({ v, once }: { v: SettingsForm; once: string }) => take(api.POST("/rotations", {
      params: { header: { "Idempotency-Key": once } },
      body: {
        wanted, make, reason: v.reason || undefined, shown: plan.items.filter((i) => !i.left_out).map((i) => ({ login: i.login, old: i.old, new: i.new ?? "" })),
        settings: { first: v.first || undefined, stop_after: v.stop_after || undefined, between: v.between || undefined, zone: v.zone || undefined, grace_seconds: v.grace_hours ? Math.round(v.grace_hours * 3600) : undefined },
      },
    })),
    onSuccess: (r) => void navigate(`/rotations/${r.id}`),
  });
  return (
    <Card size="small" title="3  How">
      <Form<SettingsForm> layout="vertical" requiredMark={false} initialValues={{ zone: Intl.DateTimeFormat().resolvedOptions().timeZone }} onFinish={(v) => start.mutate({ v, once: requestKey() })}>
        <div style={{ display: "grid", gridTemplateColumns: "repeat(5, 1fr)", gap: "0 16px" }}>
          <Form.Item name="first" label="A first group of" extra="the rest begins when all are done"><InputNumber min={0} style={{ width: "100%" }} placeholder="none" /></Form.Item>
          <Form.Item name="stop_after" label="Pause after failures"><InputNumber min={0} style={{ width: "100%" }} placeholder="never" /></Form.Item>
          <Form.Item name="grace_hours" label="Grace, hours" extra="both keys stand so long"><InputNumber min={0} style={{ width: "100%" }} placeholder="none" /></Form.Item>
          <Form.Item name="between" label="Only between"><Input placeholder="22:00-04:00" /></Form.Item>
          <Form.Item name="zone" label="in the time zone"><Input /></Form.Item>
        </div>
        <Form.Item name="reason" label="Why, for the daybook"><Input /></Form.Item>
        {make === "none" && <Alert type="info" showIcon style={{ marginBottom: 16 }} title="The old key goes once somebody has completed a login with the new one, in each login: plumlatch rotate watch, or plumlatch prove." />}
        {start.error && <Form.Item><ProblemNote error={start.error} /></Form.Item>}
        <Button type="primary" htmlType="submit" loading={start.isPending}>Replace keys in {counted(plan.logins, "login")}</Button>
      </Form>
    </Card>
  );
}

/** The same as a command of the client. */
function commandFor(w: RotationWanted): string {
  const flags: string[] = [];
  const add = (name: string, value: string | number | undefined) => { if (value !== undefined) flags.push(`-${name} ${value}`); };
  w.keys?.forEach((k) => add("key", k));
  add("keeper", w.keeper); add("type", w.type); add("weaker-than", w.weaker_than); add("label", w.label); add("region", w.region);
  if (w.older_days) flags.push(`-older ${w.older_days}d`);
  if (w.shared) flags.push("-shared");
  if (w.lost) flags.push("-lost");
  if (w.each === "instance") flags.push("-each instance");
  return `plumlatch rotate start ${flags.join(" ")}`;
}
