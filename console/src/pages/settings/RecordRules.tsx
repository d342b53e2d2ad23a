import { App, Button, Card, Form, Input, Radio, Select, Table } from "antd";
import { useState } from "react";
import { api, take, type RecordRule } from "../../api/client";
import { useClouds, useMe, useRecordRules } from "../../api/queries";
import { moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { FormDialog } from "../../parts/FormDialog";
import { ProblemNote } from "../../parts/ProblemNote";
import { useAct } from "../../parts/useAct";
import { actionsHead } from "../../parts/actionsHead";

interface Wanted {
  label?: string;
  cloud?: string;
  what?: "record" | "alone";
}

/** Which instances that clouds launch are recorded by themselves, and which are left alone. */
export function RecordRules() {
  const rules = useRecordRules();
  const clouds = useClouds();
  const admin = useMe().data?.role === "admin";
  const [adding, setAdding] = useState(false);
  return (
    <Card
      size="small"
      className="before-m"
      title="What is recorded by itself"
      styles={{ body: { padding: 0 } }}
      extra={
        admin && (
          <Button size="small" onClick={() => setAdding(true)}>
            Add a rule
          </Button>
        )
      }
    >
      {rules.error && <ProblemNote error={rules.error} again={() => void rules.refetch()} />}
      <Table<RecordRule>
        size="small"
        rowKey="id"
        pagination={false}
        loading={rules.isPending}
        dataSource={rules.data}
        locale={{ emptyText: <EmptyNote text="No rule: what clouds launch is recorded by somebody, or not at all." /> }}
        columns={[
          { title: "Label in the cloud", key: "label", render: (_, r) => <strong>{r.label}</strong> },
          { title: "Cloud", key: "cloud", render: (_, r) => r.cloud ?? "all" },
          {
            title: "Instances with it",
            key: "what",
            render: (_, r) => (r.leave_alone ? "are left alone" : "are recorded by themselves"),
          },
          { title: "Added", key: "added", render: (_, r) => `${moment(r.added_at)} by ${r.added_by}` },
          { title: actionsHead, key: "do", align: "right", render: (_, r) => admin && <Remove of={r} /> },
        ]}
      />
      {adding && (
        <FormDialog<Wanted, RecordRule>
          title="Add a rule"
          act="Add it"
          stale="clouds"
          close={() => setAdding(false)}
          initial={{ what: "alone" }}
          send={(v) =>
            take(
              api.PUT("/record-rules", {
                body: { label: v.label ?? "", cloud: v.cloud || undefined, leave_alone: v.what === "alone" },
              }),
            )
          }
        >
          <Form.Item
            name="label"
            label="For instances with the label, in their cloud"
            rules={[{ required: true, message: "Give a label" }]}
          >
            <Input placeholder="pool=workers" />
          </Form.Item>
          <Form.Item name="cloud" label="In the cloud">
            <Select
              allowClear
              placeholder="all"
              options={clouds.data?.map((c) => ({ value: c.name, label: c.name }))}
            />
          </Form.Item>
          <Form.Item name="what" label="They are">
            <Radio.Group
              options={[
                { value: "alone", label: "left alone" },
                { value: "record", label: "recorded by themselves" },
              ]}
            />
          </Form.Item>
        </FormDialog>
      )}
    </Card>
  );
}

function Remove({ of: r }: { of: RecordRule }) {
  const { modal } = App.useApp();
  const remove = useAct(() => take(api.DELETE("/record-rules/{rule}", { params: { path: { rule: r.id } } })), "clouds");
  return (
    <Button
      size="small"
      danger
      onClick={() =>
        void modal.confirm({
          title: `Remove the rule for ${r.label}?`,
          content: "What it has recorded stays recorded.",
          okText: "Remove it",
          okButtonProps: { danger: true },
          onOk: () => remove.mutateAsync(undefined).catch(() => {}),
        })
      }
    >
      Remove
    </Button>
  );
}
