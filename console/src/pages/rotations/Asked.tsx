import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App, Button, Card, Form, Input, Modal, Select, Table, type TableColumnsType } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type AskedKey } from "../../api/client";
import { useAskedKeys, useHolders } from "../../api/queries";
import { counted, moment, typeText } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { EmptyNote } from "../../parts/EmptyNote";
import { Loading } from "../../parts/Loading";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { usePlace } from "../../parts/usePlace";
import { RotationTabs } from "./RotationTabs";
import { actionsHead } from "../../parts/actionsHead";

/** The new public keys that rotations wait for. */
export default function Asked() {
  const { get, set } = usePlace();
  const holders = useHolders();
  const asked = useAskedKeys(get("holder"));
  const [bringing, setBringing] = useState<AskedKey>();
  return (
    <>
      <PageHead
        title="Asked of holders"
        note="new public keys that rotations wait for; a private key never comes here"
      />
      <RotationTabs />
      <Select
        allowClear
        placeholder="Everybody"
        aria-label="Holder"
        className="field-m after-m"
        value={get("holder")}
        onChange={(v) => set("holder", v)}
        options={[{ value: "me", label: "me" }, ...(holders.data ?? []).map((k) => ({ value: k.name, label: k.name }))]}
      />
      {asked.error && <ProblemNote error={asked.error} again={() => void asked.refetch()} />}
      {asked.isPending && <Loading />}
      {asked.data && (
        <Card size="small" styles={{ body: { padding: 0 } }}>
          <Table<AskedKey>
            size="small"
            rowKey="id"
            pagination={false}
            dataSource={asked.data}
            columns={columns(setBringing)}
            locale={{ emptyText: <EmptyNote text="No new public key is asked for." /> }}
          />
        </Card>
      )}
      {bringing && <Bring of={bringing} close={() => setBringing(undefined)} />}
    </>
  );
}

const columns = (bring: (k: AskedKey) => void): TableColumnsType<AskedKey> => [
  { title: "Holder", dataIndex: "holder" },
  { title: "New key", dataIndex: "name" },
  {
    title: "Follows",
    key: "follows",
    render: (_, k) => <Link to={`/keys/${encodeURIComponent(k.follows)}`}>{k.follows}</Link>,
  },
  { title: "Best as", key: "type", render: (_, k) => typeText(k.type, k.bits) },
  {
    title: "Waiting",
    key: "logins",
    render: (_, k) => <Link to={`/rotations/${k.rotation}`}>{counted(k.logins, "login")}</Link>,
  },
  { title: "Asked by", key: "by", render: (_, k) => `${k.requested_by}, ${moment(k.asked_at)}` },
  { title: "Why", dataIndex: "reason" },
  {
    title: actionsHead,
    key: "do",
    align: "right",
    render: (_, k) =>
      k.yours && (
        <Button size="small" onClick={() => bring(k)}>
          Bring it
        </Button>
      ),
  },
];

function Bring({ of, close }: { of: AskedKey; close: () => void }) {
  const queries = useQueryClient();
  const { message } = App.useApp();
  const bring = useMutation({
    mutationFn: (v: { public_key: string }) =>
      take(
        api.POST("/asked-keys/{asked}", {
          params: { path: { asked: of.id } },
          body: { public_key: v.public_key.trim() },
        }),
      ),
    onSuccess: (k) => {
      void queries.invalidateQueries();
      void message.success(`${k.name} takes the place of ${of.follows}`);
      close();
    },
  });
  return (
    <Modal open title={`Bring a new public key that follows ${of.follows}`} footer={null} onCancel={close} width={680}>
      <p>
        Best on the machine that keeps the private key:{" "}
        <CopyText text={`plumlatch rotate bring ${of.name} -new`} label="command" />
      </p>
      <Form<{ public_key: string }> layout="vertical" requiredMark={false} onFinish={(v) => bring.mutate(v)}>
        <Form.Item
          name="public_key"
          label="Or paste the public key"
          rules={[
            { required: true, message: "Paste the one line of a .pub file" },
            {
              validator: (_, v?: string) =>
                v?.includes("PRIVATE KEY")
                  ? Promise.reject(new Error("That is a private key. It stays where it is; paste the .pub file."))
                  : Promise.resolve(),
            },
          ]}
        >
          <Input.TextArea rows={4} placeholder="ssh-ed25519 AAAA…" spellCheck={false} className="code" />
        </Form.Item>
        {bring.error && (
          <Form.Item>
            <ProblemNote error={bring.error} />
          </Form.Item>
        )}
        <Button type="primary" htmlType="submit" loading={bring.isPending}>
          Bring it
        </Button>
      </Form>
    </Modal>
  );
}
