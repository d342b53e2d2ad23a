import { App, Button, Card, Form, Input, Table } from "antd";
import { useState } from "react";
import { api, take, type Passkey } from "../../api/client";
import { usePasskeys } from "../../api/queries";
import { day, moment } from "../../format";
import { actionsHead } from "../../parts/actionsHead";
import { EmptyNote } from "../../parts/EmptyNote";
import { FormDialog } from "../../parts/FormDialog";
import { useAct } from "../../parts/useAct";
import { addPasskey, passkeysHere } from "../../passkey";

/** The person's passkeys: named, and each removed by itself. */
export function Passkeys() {
  const all = usePasskeys();
  const { modal } = App.useApp();
  const [adding, setAdding] = useState(false);
  const remove = useAct(
    (name: string) => take(api.DELETE("/passkeys/{passkey}", { params: { path: { passkey: name } } })),
    "passkeys",
  );
  const ask = (p: Passkey) =>
    void modal.confirm({
      title: `Remove the passkey ${p.name}?`,
      content: "Nobody signs in with it from then on.",
      okText: "Remove it",
      okButtonProps: { danger: true },
      cancelText: "Leave it",
      onOk: () => remove.mutateAsync(p.name),
    });
  return (
    <Card
      size="small"
      title="Passkeys"
      styles={{ body: { padding: 0 } }}
      extra={
        passkeysHere && (
          <Button size="small" type="primary" onClick={() => setAdding(true)}>
            Add a passkey
          </Button>
        )
      }
    >
      <Table<Passkey>
        size="small"
        rowKey="name"
        dataSource={all.data}
        loading={all.isPending}
        pagination={false}
        scroll={{ x: "max-content" }}
        locale={{
          emptyText: (
            <EmptyNote
              text={
                passkeysHere
                  ? "None. A passkey signs you in without a password; your device, or a hardware key, keeps it."
                  : "None. Open the console by its host name over TLS to add one."
              }
            />
          ),
        }}
        columns={[
          { title: "Name", dataIndex: "name" },
          { title: "For", dataIndex: "host" },
          { title: "Added", key: "added", render: (_, p) => day(p.created_at) },
          { title: "Last used", key: "used", render: (_, p) => (p.used_at ? moment(p.used_at) : "never") },
          {
            title: actionsHead,
            key: "do",
            align: "right",
            render: (_, p) => (
              <Button size="small" danger aria-label={`Remove the passkey ${p.name}`} onClick={() => ask(p)}>
                Remove
              </Button>
            ),
          },
        ]}
      />
      {adding && (
        <FormDialog<{ name: string }, unknown>
          title="Add a passkey"
          act="Make it"
          stale="passkeys"
          close={() => setAdding(false)}
          send={({ name }) => addPasskey(name)}
        >
          <Form.Item
            name="name"
            label="Name"
            extra="By which you tell it from others, such as laptop"
            rules={[{ required: true, message: "Give it a name" }]}
          >
            <Input autoFocus />
          </Form.Item>
        </FormDialog>
      )}
    </Card>
  );
}
