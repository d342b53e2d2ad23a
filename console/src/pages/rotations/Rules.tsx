import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, Card, Form, Input, Modal, Radio, Table, type TableColumnsType } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, requestKey, take, type RotationRule } from "../../api/client";
import { useMe, useRotationRules } from "../../api/queries";
import { day, moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { Loading } from "../../parts/Loading";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";
import { RotationTabs } from "./RotationTabs";
import { localZone, Settings, settingsOf, settingsText, type SettingsForm } from "./Settings";
import { selectionOf, selectionText, WhichKeys, type WhichKeysForm } from "./WhichKeys";
import { actionsHead } from "../../parts/actionsHead";

/** The rotation rules, by which keys are rotated by themselves. */
export default function Rules() {
  const rules = useRotationRules();
  const me = useMe();
  const may = Boolean(me.data && me.data.role !== "viewer");
  const [adding, setAdding] = useState(false);
  const add = may && (
    <Button type="primary" onClick={() => setAdding(true)}>
      Add a rule
    </Button>
  );
  return (
    <>
      <PageHead title="Rotation rules" note="what is due by a rule is rotated by itself, once a day at most">
        {add}
      </PageHead>
      <RotationTabs />
      {rules.error && <ProblemNote error={rules.error} again={() => void rules.refetch()} />}
      {rules.isPending && <Loading />}
      {rules.data
        ?.filter((r) => r.note)
        .map((r) => (
          <Alert
            key={r.name}
            type="warning"
            showIcon
            className="after-m"
            title={`Due by the rule ${r.name}, and cannot be done`}
            description={r.note}
          />
        ))}
      {rules.data && (
        <Card size="small" styles={{ body: { padding: 0 } }}>
          <Table<RotationRule>
            size="small"
            rowKey="name"
            pagination={false}
            dataSource={rules.data}
            columns={columns(may)}
            locale={{ emptyText: <EmptyNote text="There are no rotation rules.">{add}</EmptyNote> }}
          />
        </Card>
      )}
      {adding && <Add close={() => setAdding(false)} />}
    </>
  );
}

const columns = (may: boolean): TableColumnsType<RotationRule> => [
  { title: "Name", key: "name", render: (_, r) => <span className="nowrap">{r.name}</span> },
  { title: "State", key: "state", render: (_, r) => <StateMark state={r.state} /> },
  { title: "Which keys", key: "wanted", render: (_, r) => selectionText(r.wanted) },
  {
    title: "New keys",
    key: "make",
    render: (_, r) => (r.make === "bring" ? "asked of their holders" : "made and kept by the service"),
  },
  { title: "How", key: "how", render: (_, r) => settingsText(r.settings) },
  {
    title: "By",
    key: "by",
    render: (_, r) => (
      <span className="nowrap">
        {r.created_by}, {day(r.created_at)}
      </span>
    ),
  },
  {
    title: "Last",
    key: "last",
    render: (_, r) =>
      r.last_rotation ? (
        <Link to={`/rotations/${r.last_rotation}`} className="nowrap">
          a rotation
        </Link>
      ) : (
        "nothing yet"
      ),
  },
  {
    title: "Next",
    key: "next",
    render: (_, r) => (
      <span className="nowrap">{r.state === "paused" ? "" : r.next_at ? `from ${moment(r.next_at)}` : "when due"}</span>
    ),
  },
  { title: actionsHead, key: "do", align: "right", render: (_, r) => may && <Changes of={r} /> },
];

function Changes({ of }: { of: RotationRule }) {
  const queries = useQueryClient();
  const { message, modal } = App.useApp();
  const told = {
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["rules"] }),
    onError: (e: Error) => void message.error(e.message),
  };
  const path = { path: { rule: of.name } };
  const change = useMutation({
    mutationFn: (change: "pause" | "resume") =>
      take(api.POST("/rotation-rules/{rule}/changes", { params: path, body: { change } })),
    ...told,
  });
  const end = useMutation({ mutationFn: () => take(api.DELETE("/rotation-rules/{rule}", { params: path })), ...told });
  return (
    <span className="inline">
      {of.state === "active" ? (
        <Button size="small" onClick={() => change.mutate("pause")}>
          Pause
        </Button>
      ) : (
        <Button size="small" onClick={() => change.mutate("resume")}>
          Resume
        </Button>
      )}
      <Button
        size="small"
        danger
        onClick={() =>
          void modal.confirm({
            title: `End the rule ${of.name}?`,
            content: "Its keys no longer rotate automatically. A rotation in progress continues.",
            okText: "End it",
            okButtonProps: { danger: true },
            cancelText: "Keep it",
            onOk: () => end.mutateAsync(),
          })
        }
      >
        End
      </Button>
    </span>
  );
}

type AddForm = WhichKeysForm & SettingsForm & { name: string; make: "service" | "bring"; each: "key" | "instance" };

function Add({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const add = useMutation({
    mutationFn: ({ v, once }: { v: AddForm; once: string }) =>
      take(
        api.POST("/rotation-rules", {
          params: { header: { "Idempotency-Key": once } },
          body: {
            name: v.name,
            make: v.make,
            wanted: { ...selectionOf(v), each: v.each },
            settings: settingsOf(v),
            reason: v.reason || undefined,
          },
        }),
      ),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["rules"] });
      close();
    },
  });
  return (
    <Modal open title="Add a rotation rule" footer={null} onCancel={close} width={1080}>
      <Form<AddForm>
        layout="vertical"
        requiredMark={false}
        initialValues={{ make: "service", each: "key", zone: localZone() }}
        onFinish={(v) => add.mutate({ v, once: requestKey() })}
      >
        <Form.Item
          name="name"
          label="Name"
          rules={[{ required: true, message: "Give the rule a name" }]}
          className="at-most-l"
        >
          <Input placeholder="yearly" />
        </Form.Item>
        <WhichKeys />
        <div className="pair">
          <Form.Item name="make" label="New keys are">
            <Radio.Group
              className="stack gap-xs"
              options={[
                { value: "service", label: "made by the service and kept in its safe" },
                { value: "bring", label: "asked of the holder of each old key" },
              ]}
            />
          </Form.Item>
          <Form.Item name="each" label="One new key">
            <Radio.Group
              className="stack gap-xs"
              options={[
                { value: "key", label: "for each old key, on all its logins" },
                { value: "instance", label: "for each instance, which ends sharing" },
              ]}
            />
          </Form.Item>
        </div>
        <Settings />
        <Form.Item name="reason" label="Why, for the daybook">
          <Input />
        </Form.Item>
        {add.error && (
          <Form.Item>
            <ProblemNote error={add.error} />
          </Form.Item>
        )}
        <Button type="primary" htmlType="submit" loading={add.isPending}>
          Add the rule
        </Button>
      </Form>
    </Modal>
  );
}
