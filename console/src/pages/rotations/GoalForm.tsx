import { useMutation } from "@tanstack/react-query";
import { Alert, Button, Card, Form, Input, InputNumber, Select, Spin } from "antd";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, requestKey, take, type RotationPlan, type RotationWanted } from "../../api/client";
import { useMe, useRotationPlan } from "../../api/queries";
import { counted } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { useSettled } from "../../parts/useSettled";
import { commandFor } from "./command";
import { goals, inFull, isComplete, wantedFor, type Goal, type GoalValues } from "./goal";
import { pendingText, PlanPreview } from "./PlanPreview";
import { useKeyOptions } from "./WhichKeys";

const sources = [
  { value: "service", label: "made by the service, and kept in its safe" },
  { value: "bring", label: "brought by the holders of the old ones" },
  { value: "here", label: "made on your machine, by the client" },
];

/** A goal as a form of few fields, with the plan beside it, which follows them. */
export function GoalForm({ goal }: { goal: Goal }) {
  const [params] = useSearchParams();
  const [form] = Form.useForm<GoalValues>();
  const initial: GoalValues = {
    keys: params.getAll("key"),
    older_days: 180,
    weaker_than: "rsa3072",
    source: "service",
  };
  const values = { ...initial, ...(Form.useWatch([], form) as GoalValues | undefined) };
  const wanted = useSettled(JSON.stringify(wantedFor(goal, values)), 300);
  const now = JSON.parse(wanted) as RotationWanted;
  const plan = useRotationPlan(now, values.source, isComplete(now));
  return (
    <>
      <PageHead title={goals[goal].title} note="nothing is changed before you start it">
        <Link to={inFull(now)}>
          <Button>More choices</Button>
        </Link>
        <Link to="/rotations">
          <Button>Other goals</Button>
        </Link>
      </PageHead>
      <div className="columns one-two">
        <Card size="small">
          <Form<GoalValues> form={form} layout="vertical" requiredMark={false} initialValues={initial}>
            <Fields goal={goal} />
            <Form.Item name="source" label="The new keys are">
              <Select options={sources} />
            </Form.Item>
            {goal !== "lost" && goal !== "keys" && goal !== "shared" && (
              <Form.Item name="label" label="Only on instances with the label">
                <Input placeholder="any, or team=cameras" />
              </Form.Item>
            )}
            <Form.Item name="reason" label="Why, for the daybook">
              <Input />
            </Form.Item>
          </Form>
          {plan.data && <Begin plan={plan.data} wanted={now} values={values} stale={plan.isFetching} />}
        </Card>
        <div aria-live="polite">
          {plan.error ? (
            <ProblemNote error={plan.error} />
          ) : plan.data ? (
            <Spin spinning={plan.isFetching && plan.isPlaceholderData}>
              <PlanPreview of={plan.data} beside />
            </Spin>
          ) : isComplete(now) ? (
            <Spin />
          ) : (
            <Alert type="info" showIcon title="Say which keys, and the plan is shown here." />
          )}
        </div>
      </div>
    </>
  );
}

/** The one or two fields that say which keys. */
function Fields({ goal }: { goal: Goal }) {
  const { options, setSearch } = useKeyOptions();
  switch (goal) {
    case "old":
      return (
        <Form.Item name="older_days" label="Older than, days">
          <InputNumber min={1} className="full" />
        </Form.Item>
      );
    case "weak":
      return (
        <Form.Item name="weaker_than" label="Weaker than">
          <Select options={["rsa2048", "rsa3072", "rsa4096", "ecdsa384"].map((v) => ({ value: v, label: v }))} />
        </Form.Item>
      );
    case "shared":
    case "lost":
    case "keys":
      return (
        <Form.Item name="keys" label="Keys">
          <Select
            mode="multiple"
            showSearch={{ filterOption: false, onSearch: setSearch }}
            placeholder={
              goal === "keys" ? "which" : goal === "lost" ? "all that are marked as lost" : "all that are shared"
            }
            options={options}
          />
        </Form.Item>
      );
  }
}

/** What it costs, and the button that begins it. */
function Begin({
  plan,
  wanted,
  values,
  stale,
}: {
  plan: RotationPlan;
  wanted: RotationWanted;
  values: GoalValues;
  stale: boolean;
}) {
  const navigate = useNavigate();
  const may = useMe().data?.role !== "viewer";
  const { source } = values;
  const start = useMutation({
    mutationFn: (once: string) =>
      take(
        api.POST("/rotations", {
          params: { header: { "Idempotency-Key": once } },
          body: {
            wanted,
            make: source,
            reason: values.reason || undefined,
            shown: plan.items.filter((i) => !i.left_out).map((i) => ({ login: i.login, old: i.old, new: i.new ?? "" })),
            settings: {},
          },
        }),
      ),
    onSuccess: (r) => void navigate(`/rotations/${r.id}`),
  });
  if (plan.logins === 0)
    return (
      <p className="flush">
        {wanted.lost ? (
          <>
            No key that is marked as lost is in place. Mark it first: choose it among the{" "}
            <Link to="/keys" className="in-text">
              key pairs
            </Link>
            .
          </>
        ) : (
          "No such key is in place."
        )}
      </p>
    );
  return (
    <>
      {plan.pending.length > 0 && (
        <Alert
          type="warning"
          showIcon
          className="after-m"
          title="Before they get in by the new keys:"
          description={
            <ul className="list">
              {plan.pending.map((h) => (
                <li key={h.holder}>{pendingText(h)}</li>
              ))}
            </ul>
          }
        />
      )}
      {start.error && <ProblemNote error={start.error} />}
      {source === "here" ? (
        <CopyText block text={commandFor(wanted)} label="command" />
      ) : (
        may && (
          <Button type="primary" disabled={stale} loading={start.isPending} onClick={() => start.mutate(requestKey())}>
            Replace keys in {counted(plan.logins, "login")}
          </Button>
        )
      )}
    </>
  );
}
