import { App, Button, Card, Checkbox, Form, Input, Modal, Table, type TableColumnsType } from "antd";
import { useState } from "react";
import { api, requestKey, take, type Delivery, type Subscriber } from "../../api/client";
import { useDead, useSubscribers } from "../../api/queries";
import { moment } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { EmptyNote } from "../../parts/EmptyNote";
import { FormDialog } from "../../parts/FormDialog";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";
import { useAct } from "../../parts/useAct";
import { SettingsTabs } from "./SettingsTabs";
import { actionsHead } from "../../parts/actionsHead";

const kinds: { value: Subscriber["kinds"][number]; label: string }[] = [
  { value: "login-shut", label: "a login has become shut" },
  { value: "stranger", label: "a stranger's key has appeared" },
  { value: "run-failed", label: "a run has failed" },
  { value: "left-open", label: "something is open beyond its deadline" },
  { value: "grant-overdue", label: "a grant is in force though its end is past" },
  { value: "charter-differs", label: "something differs from a charter" },
  { value: "holder-asked", label: "somebody has to do something before they get in" },
  { value: "key-released", label: "a private key was taken out of the safe" },
  { value: "all", label: "every entry of the daybook" },
];

/** Programs elsewhere that are told of what happens. */
export default function Subscribers() {
  const subscribers = useSubscribers();
  const [adding, setAdding] = useState(false);
  const [dead, setDead] = useState<string>();
  const [secret, setSecret] = useState<string>();
  const add = (
    <Button type="primary" onClick={() => setAdding(true)}>
      Add a subscriber
    </Button>
  );
  return (
    <>
      <PageHead title="Subscribers" note="programs elsewhere that are told of what happens: webhooks and syslog">
        {add}
      </PageHead>
      <SettingsTabs />
      {subscribers.error && <ProblemNote error={subscribers.error} again={() => void subscribers.refetch()} />}
      <Card size="small" styles={{ body: { padding: 0 } }}>
        <Table<Subscriber>
          size="small"
          rowKey="name"
          pagination={false}
          loading={subscribers.isPending}
          dataSource={subscribers.data}
          columns={columns(setDead)}
          locale={{ emptyText: <EmptyNote text="No subscribers yet.">{add}</EmptyNote> }}
        />
      </Card>
      {adding && <Add close={() => setAdding(false)} made={setSecret} />}
      <Modal
        open={secret !== undefined}
        title="What signs the webhook's calls, shown only now"
        footer={
          <Button type="primary" onClick={() => setSecret(undefined)}>
            I have kept it
          </Button>
        }
        onCancel={() => setSecret(undefined)}
        mask={{ closable: false }}
      >
        <p>HMAC-SHA256, as in RFC 9421, with this secret (base64url):</p>
        {secret && <CopyText block text={secret} label="secret" />}
      </Modal>
      {dead && <Dead of={dead} close={() => setDead(undefined)} />}
    </>
  );
}

function Add({ close, made }: { close: () => void; made: (secret: string | undefined) => void }) {
  const [once] = useState(requestKey);
  return (
    <FormDialog<{ name: string; address: string; kinds: Subscriber["kinds"] }, Subscriber>
      title="Add a subscriber"
      act="Add it"
      stale="subscribers"
      close={close}
      done={(r) => made(r.secret)}
      initial={{ kinds: kinds.slice(0, 5).map((k) => k.value) }}
      send={(body) => take(api.POST("/subscribers", { params: { header: { "Idempotency-Key": once } }, body }))}
    >
      <Form.Item name="name" label="Name" rules={[{ required: true, message: "Give it a name" }]}>
        <Input placeholder="pager" />
      </Form.Item>
      <Form.Item
        name="address"
        label="Address"
        extra="https:// for a webhook; udp://, tcp:// or tls:// with a port for syslog."
        rules={[{ required: true, message: "Give its address" }]}
      >
        <Input placeholder="https://hooks.wrackline.example/latch" />
      </Form.Item>
      <Form.Item name="kinds" label="Tell it when">
        <Checkbox.Group className="stack gap-xs" options={kinds} />
      </Form.Item>
    </FormDialog>
  );
}

const columns = (show: (name: string) => void): TableColumnsType<Subscriber> => [
  { title: "Name", key: "name", render: (_, r) => <strong>{r.name}</strong> },
  { title: "Address", dataIndex: "address" },
  { title: "Told when", key: "kinds", render: (_, r) => r.kinds.join(", ") },
  { title: "State", key: "state", render: (_, r) => <StateMark state={r.paused ? "paused" : "sending"} /> },
  {
    title: "Delivered",
    key: "delivered",
    render: (_, r) => `${r.delivered}${r.last_at ? `, last ${moment(r.last_at)}` : ""}`,
  },
  { title: "Waiting", dataIndex: "waiting" },
  {
    title: "Dead",
    key: "dead",
    render: (_, r) =>
      r.dead > 0 ? (
        <Button size="small" danger onClick={() => show(r.name)}>
          {r.dead}
        </Button>
      ) : (
        "0"
      ),
  },
  { title: "Last error", dataIndex: "last_error" },
  { title: actionsHead, key: "do", align: "right", render: (_, r) => <Changes of={r} /> },
];

function Changes({ of }: { of: Subscriber }) {
  const { modal, message } = App.useApp();
  const path = { path: { subscriber: of.name } };
  const test = useAct(
    () => take(api.POST("/subscribers/{subscriber}/test", { params: path })),
    "subscribers",
    (r) =>
      void (r.delivered
        ? message.success(`${of.name} has taken a test event`)
        : message.warning(`${of.name} did not take it: ${r.error ?? ""}`, 8)),
  );
  const pause = useAct(
    (paused: boolean) => take(api.PATCH("/subscribers/{subscriber}", { params: path, body: { paused } })),
    "subscribers",
  );
  const end = useAct(() => take(api.DELETE("/subscribers/{subscriber}", { params: path })), "subscribers");
  return (
    <span className="inline">
      <Button size="small" loading={test.isPending} onClick={() => test.mutate(undefined)}>
        Test
      </Button>
      <Button size="small" onClick={() => pause.mutate(!of.paused)}>
        {of.paused ? "Resume" : "Pause"}
      </Button>
      <Button
        size="small"
        danger
        onClick={() =>
          void modal.confirm({
            title: `End the subscriber ${of.name}?`,
            content: "What was still to be sent to it is dropped.",
            okText: "End it",
            okButtonProps: { danger: true },
            onOk: () => end.mutateAsync(undefined).catch(() => {}),
          })
        }
      >
        End
      </Button>
    </span>
  );
}

function Dead({ of, close }: { of: string; close: () => void }) {
  const dead = useDead(of);
  const again = useAct(
    () => take(api.POST("/subscribers/{subscriber}/dead", { params: { path: { subscriber: of } } })),
    "subscribers",
    close,
  );
  const columns: TableColumnsType<Delivery> = [
    { title: "Entry", dataIndex: "seq" },
    { title: "What", dataIndex: "sentence" },
    { title: "Why not", dataIndex: "error" },
    { title: "Given up", key: "at", render: (_, d) => moment(d.ended_at) },
  ];
  return (
    <Modal
      open
      title={`What ${of} did not take`}
      width={900}
      onCancel={close}
      footer={
        <Button type="primary" loading={again.isPending} onClick={() => again.mutate(undefined)}>
          Try all again
        </Button>
      }
    >
      <Table<Delivery>
        size="small"
        rowKey="seq"
        pagination={{ pageSize: 10, hideOnSinglePage: true }}
        loading={dead.isPending}
        dataSource={dead.data}
        columns={columns}
      />
    </Modal>
  );
}
