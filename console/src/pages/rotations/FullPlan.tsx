import { useMutation } from "@tanstack/react-query";
import { Alert, Button, Card, Checkbox, Form, Input, Radio, Select } from "antd";
import { useNavigate, useSearchParams } from "react-router";
import { api, requestKey, take, type RotationPlan, type RotationWanted } from "../../api/client";
import { counted } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { commandFor } from "./command";
import { pendingText, PlanPreview } from "./PlanPreview";
import { localZone, Settings, settingsOf, type SettingsForm } from "./Settings";
import { selectionOf, useKeyOptions, WhichKeys, type WhichKeysForm } from "./WhichKeys";

type PlanForm = WhichKeysForm & {
  source: "service" | "here" | "bring" | "existing";
  each: "key" | "instance";
  to?: string;
  wait?: boolean;
  urgent?: boolean;
  names?: string;
  from_here?: boolean;
};

const makeOf = (v: PlanForm) => (v.source === "existing" ? "none" : v.source);

const wantedOf = (v: PlanForm): RotationWanted => ({
  ...selectionOf(v),
  each: v.source === "existing" ? "key" : v.each,
  to: v.source === "existing" ? v.to : undefined,
  overlap: v.wait ? "wait" : undefined,
  urgent: v.urgent || undefined,
  names: v.source === "existing" ? undefined : v.names || undefined,
  from_here: (v.source === "here" && v.from_here) || undefined,
});

/** All that can be said of a rotation, in three steps: what, the plan as a preview, and how. */
export function FullPlan() {
  const [params] = useSearchParams();
  const [form] = Form.useForm<PlanForm>();
  const source = (Form.useWatch("source", form) as PlanForm["source"] | undefined) ?? "service";
  const { options, setSearch } = useKeyOptions();
  const plan = useMutation({
    mutationFn: (v: PlanForm) => take(api.POST("/rotations/plans", { body: { wanted: wantedOf(v), make: makeOf(v) } })),
  });
  return (
    <>
      <PageHead title="Plan a rotation" note="nothing is changed before you start it" />
      <div className="stack page">
        <Form<PlanForm>
          form={form}
          layout="vertical"
          requiredMark={false}
          initialValues={{
            source: "service",
            each: params.has("shared") ? "instance" : "key",
            keys: params.getAll("key"),
            lost: params.has("lost"),
            urgent: params.has("urgent"),
            shared: params.has("shared"),
            older_days: Number(params.get("older_days")) || undefined,
            weaker_than: params.get("weaker_than") ?? undefined,
            label: params.get("label") ?? undefined,
          }}
          onFinish={(v) => plan.mutate(v)}
          onValuesChange={() => plan.reset()}
        >
          <Card size="small" title="1  Which keys, where, and what takes their place" className="after-l">
            <WhichKeys />
            <div className="pair">
              <Form.Item name="source" label="In their place" className="flush-end">
                <Radio.Group
                  className="stack gap-xs"
                  options={[
                    {
                      value: "service",
                      label: "new keys that the service makes and keeps in its safe; their holders take them out",
                    },
                    { value: "here", label: "new keys made on your machine, by the client" },
                    { value: "bring", label: "new keys that the holder of each old one is asked to bring" },
                    { value: "existing", label: "a key that exists" },
                  ]}
                />
              </Form.Item>
              {source === "existing" ? (
                <Form.Item
                  name="to"
                  label="Which"
                  rules={[{ required: true, message: "Choose the key" }]}
                  className="flush-end"
                >
                  <Select showSearch={{ filterOption: false, onSearch: setSearch }} options={options} />
                </Form.Item>
              ) : (
                <Form.Item name="each" label="One new key" className="flush-end">
                  <Radio.Group
                    className="stack gap-xs"
                    options={[
                      { value: "key", label: "for each old key, on all its logins" },
                      { value: "instance", label: "for each instance, which ends sharing" },
                    ]}
                  />
                </Form.Item>
              )}
            </div>
            {source !== "existing" && (
              <Form.Item
                name="names"
                label="Names of new keys"
                className="before-m"
                extra="with {key}, {instance}, {holder}, {year}, {month}, {day}; numbered unless given"
              >
                <Input placeholder="{key}-{year}" />
              </Form.Item>
            )}
            <div className="row gap-xl many before-m">
              <Form.Item name="wait" valuePropName="checked" noStyle>
                <Checkbox>wait for logins that another rotation is at work on</Checkbox>
              </Form.Item>
              <Form.Item name="urgent" valuePropName="checked" noStyle>
                <Checkbox>urgent: for lost keys, with no grace and no hours</Checkbox>
              </Form.Item>
              {source === "here" && (
                <Form.Item name="from_here" valuePropName="checked" noStyle>
                  <Checkbox>edit from your machine with the old private key where there is no steward key</Checkbox>
                </Form.Item>
              )}
            </div>
          </Card>
          {plan.error && (
            <Form.Item>
              <ProblemNote error={plan.error} />
            </Form.Item>
          )}
          {!plan.data && (
            <Button type="primary" htmlType="submit" loading={plan.isPending}>
              Show the plan
            </Button>
          )}
        </Form>
        {plan.data && <PlanPreview of={plan.data} title="2  The plan" />}
        {plan.data &&
          plan.data.logins > 0 &&
          (source === "here" ? (
            <Card size="small" title="3  Start it where you want the private keys">
              <CopyText block text={commandFor(wantedOf(form.getFieldsValue()))} label="command" />
            </Card>
          ) : (
            <Start
              plan={plan.data}
              wanted={wantedOf(form.getFieldsValue())}
              make={source === "existing" ? "none" : source}
              urgent={Boolean(form.getFieldValue("urgent"))}
            />
          ))}
      </div>
    </>
  );
}

function Start({
  plan,
  wanted,
  make,
  urgent,
}: {
  plan: RotationPlan;
  wanted: RotationWanted;
  make: "service" | "bring" | "none";
  urgent: boolean;
}) {
  const navigate = useNavigate();
  const start = useMutation({
    mutationFn: ({ v, once }: { v: SettingsForm; once: string }) =>
      take(
        api.POST("/rotations", {
          params: { header: { "Idempotency-Key": once } },
          body: {
            wanted,
            make,
            reason: v.reason || undefined,
            shown: plan.items.filter((i) => !i.left_out).map((i) => ({ login: i.login, old: i.old, new: i.new ?? "" })),
            settings: settingsOf(v),
          },
        }),
      ),
    onSuccess: (r) => void navigate(`/rotations/${r.id}`),
  });
  return (
    <Card size="small" title="3  How">
      {plan.pending.length > 0 && (
        <Alert
          type="warning"
          showIcon
          className="after-l"
          title="These holders have to do something before they get in by the new keys:"
          description={
            <ul>
              {plan.pending.map((h) => (
                <li key={h.holder}>{pendingText(h)}</li>
              ))}
            </ul>
          }
        />
      )}
      <Form<SettingsForm>
        layout="vertical"
        requiredMark={false}
        initialValues={urgent ? {} : { zone: localZone() }}
        onFinish={(v) => start.mutate({ v, once: requestKey() })}
      >
        {urgent ? (
          <Alert
            type="warning"
            showIcon
            className="after-l"
            title={
              "Urgent: no grace, no hours, no first group. Where nobody can log in with the new key, the page of " +
              "the rotation offers an override, login by login."
            }
          />
        ) : (
          <Settings />
        )}
        <Form.Item name="reason" label="Why, for the daybook">
          <Input />
        </Form.Item>
        {make === "none" && (
          <Alert
            type="info"
            showIcon
            className="after-l"
            title={
              "The old key goes once somebody has completed a login with the new one, in each login: plumlatch " +
              "rotate watch, or plumlatch prove."
            }
          />
        )}
        {make === "bring" && (
          <Alert
            type="info"
            showIcon
            className="after-l"
            title={
              "Each holder finds the request among what is asked of them; a login continues when its new public key " +
              "has come."
            }
          />
        )}
        {start.error && (
          <Form.Item>
            <ProblemNote error={start.error} />
          </Form.Item>
        )}
        <Button type="primary" htmlType="submit" loading={start.isPending}>
          Replace keys in {counted(plan.logins, "login")}
        </Button>
      </Form>
    </Card>
  );
}
