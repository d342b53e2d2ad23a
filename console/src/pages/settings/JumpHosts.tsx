import { App, Button, Card, Form, Input, Radio, Table } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type JumpRule } from "../../api/client";
import { useJumps, useMe } from "../../api/queries";
import { counted, moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { FormDialog } from "../../parts/FormDialog";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { useAct } from "../../parts/useAct";
import { SettingsTabs } from "./SettingsTabs";
import { actionsHead } from "../../parts/actionsHead";

interface Wanted {
  kind?: "label" | "network";
  what?: string;
  via?: string;
}

/** The jump hosts by way of which instances are reached, and the rules for labels and networks. */
export default function JumpHosts() {
  const jumps = useJumps();
  const admin = useMe().data?.role === "admin";
  const [adding, setAdding] = useState(false);
  const add = admin && (
    <Button type="primary" onClick={() => setAdding(true)}>
      Add a rule
    </Button>
  );
  return (
    <>
      <PageHead title="Jump hosts" note="by way of which instances are reached that are not reached straight">
        {add}
      </PageHead>
      <SettingsTabs />
      {jumps.error && <ProblemNote error={jumps.error} again={() => void jumps.refetch()} />}
      <Card size="small" title="Jump hosts" styles={{ body: { padding: 0 } }}>
        <Table
          size="small"
          rowKey="instance"
          pagination={false}
          loading={jumps.isPending}
          dataSource={jumps.data?.hosts}
          locale={{
            emptyText: (
              <EmptyNote text="Every instance is reached straight. A way is set on the page of an instance." />
            ),
          }}
          columns={[
            {
              title: "Jump host",
              key: "instance",
              render: (_, h) => <Link to={`/instances/${encodeURIComponent(h.instance)}`}>{h.instance}</Link>,
            },
            {
              title: "Leads to",
              key: "behind",
              render: (_, h) => (
                <Link to={`/instances?via=${encodeURIComponent(h.instance)}`}>{counted(h.behind, "instance")}</Link>
              ),
            },
          ]}
        />
      </Card>
      <Card
        size="small"
        title="Rules, in the order in which they count"
        className="before-m"
        styles={{ body: { padding: 0 } }}
      >
        <Table<JumpRule>
          size="small"
          rowKey="id"
          pagination={false}
          dataSource={jumps.data?.rules}
          locale={{
            emptyText: <EmptyNote text="No rule. What is set for an instance alone counts before any." />,
          }}
          columns={[
            { title: "For instances", key: "for", render: (_, r) => <strong>{ruleFor(r)}</strong> },
            {
              title: "By way of",
              key: "via",
              render: (_, r) => <Link to={`/instances/${encodeURIComponent(r.via)}`}>{r.via}</Link>,
            },
            { title: "Added", key: "added", render: (_, r) => `${moment(r.added_at)} by ${r.added_by}` },
            { title: actionsHead, key: "do", align: "right", render: (_, r) => admin && <Remove of={r} /> },
          ]}
        />
      </Card>
      {adding && (
        <FormDialog<Wanted, JumpRule>
          title="Add a rule"
          act="Add it"
          stale="jumps"
          close={() => setAdding(false)}
          initial={{ kind: "network" }}
          send={(v) =>
            take(
              api.PUT("/jump-rules", {
                body: { via: v.via ?? "", [v.kind ?? "network"]: v.what ?? "" },
              }),
            )
          }
        >
          <Form.Item name="kind" label="For instances with">
            <Radio.Group
              options={[
                { value: "network", label: "an address in a network" },
                { value: "label", label: "a label" },
              ]}
            />
          </Form.Item>
          <Form.Item
            name="what"
            label="Network or label"
            extra="10.20.0.0/16, or name=value"
            rules={[{ required: true, message: "Give a network or a label" }]}
          >
            <Input />
          </Form.Item>
          <Form.Item name="via" label="Jump host" rules={[{ required: true, message: "Name an instance" }]}>
            <Input placeholder="gateway-1" />
          </Form.Item>
        </FormDialog>
      )}
    </>
  );
}

const ruleFor = (r: JumpRule) => (r.network ? `in ${r.network}` : `with the label ${r.label ?? ""}`);

function Remove({ of: r }: { of: JumpRule }) {
  const { modal } = App.useApp();
  const remove = useAct(() => take(api.DELETE("/jump-rules/{rule}", { params: { path: { rule: r.id } } })), "jumps");
  return (
    <Button
      size="small"
      danger
      onClick={() =>
        void modal.confirm({
          title: `Remove the rule for instances ${ruleFor(r)}?`,
          content: `They are not reached by way of ${r.via} because of it. Nothing on a machine is changed.`,
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
