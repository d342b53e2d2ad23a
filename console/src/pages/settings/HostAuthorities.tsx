import { App, Button, Card, Form, Input, Table } from "antd";
import { useState } from "react";
import { api, take, type HostAuthority } from "../../api/client";
import { useHostAuthorities, useMe } from "../../api/queries";
import { moment } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { EmptyNote } from "../../parts/EmptyNote";
import { FormDialog } from "../../parts/FormDialog";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { useAct } from "../../parts/useAct";
import { SettingsTabs } from "./SettingsTabs";
import { actionsHead } from "../../parts/actionsHead";

interface Wanted {
  name?: string;
  public_key?: string;
  hosts?: string;
}

/** The certificate authorities whose host certificates vouch for the host keys of machines. */
export default function HostAuthorities() {
  const list = useHostAuthorities();
  const admin = useMe().data?.role === "admin";
  const [adding, setAdding] = useState(false);
  return (
    <>
      <PageHead title="Host authorities" note="certificate authorities whose host certificates vouch for host keys">
        {admin && (
          <Button type="primary" onClick={() => setAdding(true)}>
            Add an authority
          </Button>
        )}
      </PageHead>
      <SettingsTabs />
      {list.error && <ProblemNote error={list.error} again={() => void list.refetch()} />}
      <Card size="small" styles={{ body: { padding: 0 } }}>
        <Table<HostAuthority>
          size="small"
          rowKey="name"
          pagination={false}
          loading={list.isPending}
          dataSource={list.data}
          locale={{
            emptyText: (
              <EmptyNote text="No authority. Host keys are pinned from the boot output, or compared by a person." />
            ),
          }}
          columns={[
            { title: "Name", dataIndex: "name", render: (name: string) => <strong>{name}</strong> },
            {
              title: "Hosts",
              key: "hosts",
              render: (_, a) => (a.hosts === "*" ? "all hosts" : <code>{a.hosts}</code>),
            },
            {
              title: "Public key",
              key: "key",
              render: (_, a) => <CopyText text={a.sha256} label="fingerprint of the authority" />,
            },
            { title: "Added", key: "added", render: (_, a) => `${moment(a.added_at)} by ${a.added_by}` },
            { title: actionsHead, key: "do", align: "right", render: (_, a) => admin && <Remove of={a} /> },
          ]}
        />
      </Card>
      {adding && (
        <FormDialog<Wanted, HostAuthority>
          title="Add a host authority"
          act="Add it"
          stale="host-authorities"
          close={() => setAdding(false)}
          send={(v) =>
            take(
              api.POST("/host-authorities", {
                body: { name: v.name ?? "", public_key: v.public_key ?? "", hosts: v.hosts || undefined },
              }),
            )
          }
        >
          <Form.Item name="name" label="Name" rules={[{ required: true, message: "Give it a name" }]}>
            <Input placeholder="wrackline" />
          </Form.Item>
          <Form.Item
            name="public_key"
            label="Public key"
            extra="One line, or a line of known_hosts that begins with @cert-authority"
            rules={[{ required: true, message: "Paste its public key" }]}
          >
            <Input.TextArea rows={3} className="code" />
          </Form.Item>
          <Form.Item name="hosts" label="Hosts" extra="Patterns with commas between; all hosts unless given">
            <Input placeholder="*.wrackline.example" />
          </Form.Item>
          <p>
            A host key with a valid certificate of this authority is pinned without a question, also where the pinned
            one was another.
          </p>
        </FormDialog>
      )}
    </>
  );
}

function Remove({ of: a }: { of: HostAuthority }) {
  const { modal } = App.useApp();
  const remove = useAct(
    () => take(api.DELETE("/host-authorities/{name}", { params: { path: { name: a.name } } })),
    "host-authorities",
  );
  return (
    <Button
      size="small"
      danger
      onClick={() =>
        void modal.confirm({
          title: `Remove the host authority ${a.name}?`,
          content: "Host keys that it has vouched for stay pinned. It vouches for no others.",
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
