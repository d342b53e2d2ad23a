import { App, Button, Card, Form, Input, Select, Table, Tag } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, take, type CloudKey, type KeyGroup, type KeyGroupEffect } from "../../api/client";
import { useClouds, useCloudKeys, useKeyGroups, useMe } from "../../api/queries";
import { counted } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { EmptyNote } from "../../parts/EmptyNote";
import { FormDialog } from "../../parts/FormDialog";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { useAct } from "../../parts/useAct";
import { SettingsTabs } from "./SettingsTabs";
import { actionsHead } from "../../parts/actionsHead";

/** The keys that a cloud knows itself: its catalogue of named keys, and those that it hands to groups of instances. */
export default function CloudKeys() {
  const { name = "" } = useParams();
  const cloud = useClouds().data?.find((c) => c.name === name);
  const can = (what: string) => cloud?.capabilities.includes(what) ?? false;
  return (
    <>
      <PageHead
        title={`Keys of ${name}`}
        note="those that the cloud knows itself; they say nothing of who is granted"
      />
      <SettingsTabs />
      {can("key-catalogue") && <Catalogue of={name} />}
      {can("group-keys") && <Groups of={name} />}
      {cloud && !can("key-catalogue") && !can("group-keys") && (
        <EmptyNote text="This cloud has neither a catalogue of named keys nor keys of groups." />
      )}
    </>
  );
}

function Catalogue({ of: cloud }: { of: string }) {
  const keys = useCloudKeys(cloud);
  const role = useMe().data?.role;
  const [publishing, setPublishing] = useState(false);
  const untrue = keys.data?.keys.reduce((n, k) => n + k.untrue, 0) ?? 0;
  const most = Math.max(0, ...Object.values(countBy(keys.data?.keys ?? [])));
  return (
    <Card
      size="small"
      title="Catalogue of named keys"
      styles={{ body: { padding: 0 } }}
      extra={
        role !== "viewer" && (
          <Button size="small" type="primary" onClick={() => setPublishing(true)}>
            Publish a key
          </Button>
        )
      }
    >
      {keys.error && <ProblemNote error={keys.error} again={() => void keys.refetch()} />}
      {untrue > 0 && (
        <p className="menu-note">
          The name beside {counted(untrue, "instance")} is not the truth: the key does not open it, as it was last read.
        </p>
      )}
      <Table<CloudKey>
        size="small"
        rowKey={(k) => `${k.region}/${k.name}`}
        scroll={{ x: "max-content" }}
        loading={keys.isPending}
        dataSource={keys.data?.keys}
        pagination={{ pageSize: 50, hideOnSinglePage: true }}
        footer={() => (keys.data?.quota ? `${most} of ${keys.data.quota} in the fullest region` : undefined)}
        locale={{ emptyText: <EmptyNote text="It has no named key." /> }}
        columns={[
          { title: "Name", key: "name", render: (_, k) => <strong>{k.name}</strong> },
          { title: "Region", dataIndex: "region" },
          {
            title: "Recorded as",
            key: "recorded",
            render: (_, k) =>
              k.recorded_as.length === 0
                ? "not recorded"
                : k.recorded_as.map((n) => (
                    <Link key={n} to={`/keys/${encodeURIComponent(n)}`}>
                      {n}
                    </Link>
                  )),
          },
          { title: "Launched with it", dataIndex: "launched", align: "right" },
          { title: "Opens", dataIndex: "opens", align: "right" },
          { title: "Does not open", dataIndex: "untrue", align: "right" },
          {
            title: "Fingerprint",
            key: "fingerprint",
            render: (_, k) => (
              <span className="inline">
                <CopyText
                  text={k.fingerprint}
                  label={`fingerprint of ${k.name}`}
                  shown={k.fingerprint.slice(0, 23) + "…"}
                />
                {k.notation && k.notation !== "SHA-256" && <Tag>{k.notation}</Tag>}
              </span>
            ),
          },
          { title: actionsHead, key: "do", align: "right", render: (_, k) => <Changes of={k} cloud={cloud} /> },
        ]}
      />
      {publishing && (
        <FormDialog<{ key?: string; as?: string }, unknown>
          title={`Publish a key in ${cloud}`}
          act="Put it into the catalogue"
          stale="clouds"
          close={() => setPublishing(false)}
          send={(v) =>
            take(
              api.POST("/clouds/{cloud}/keys", {
                params: { path: { cloud } },
                body: { key: v.key ?? "", as: v.as || undefined },
              }),
            )
          }
        >
          <Form.Item name="key" label="Key" rules={[{ required: true, message: "Name a key" }]}>
            <Input placeholder="atlas-deploy" />
          </Form.Item>
          <Form.Item name="as" label="Its name in the cloud, where that is another">
            <Input />
          </Form.Item>
        </FormDialog>
      )}
    </Card>
  );
}

function countBy(keys: CloudKey[]): Record<string, number> {
  const out: Record<string, number> = {};
  for (const k of keys) out[k.region] = (out[k.region] ?? 0) + 1;
  return out;
}

function Changes({ of: k, cloud }: { of: CloudKey; cloud: string }) {
  const { modal, message } = App.useApp();
  const role = useMe().data?.role;
  const add = useAct(
    () => take(api.POST("/keys", { body: { name: k.name, public_key: k.public_key ?? "", no_holder: true } })),
    "clouds",
    () => void message.success(`${k.name} is recorded; nobody is known to have its private key`),
  );
  const remove = useAct(
    () =>
      take(
        api.DELETE("/clouds/{cloud}/keys/{key}", {
          params: { path: { cloud, key: k.name }, query: { region: [k.region] } },
        }),
      ),
    "clouds",
  );
  return (
    <span className="inline">
      {role !== "viewer" && k.recorded_as.length === 0 && k.public_key && (
        <Button size="small" loading={add.isPending} onClick={() => add.mutate(undefined)}>
          Record it
        </Button>
      )}
      {role === "admin" && (
        <Button
          size="small"
          danger={k.launched > 0}
          onClick={() =>
            void modal.confirm({
              title: `Take ${k.name} out of the catalogue in ${k.region}?`,
              content: "Nothing can be launched with it there any longer. Machines stay as they are.",
              okText: "Take it out",
              okButtonProps: { danger: true },
              onOk: () => remove.mutateAsync(undefined).catch(() => {}),
            })
          }
        >
          Remove
        </Button>
      )}
    </span>
  );
}

interface Row {
  group: KeyGroup;
  user?: string;
  sha256?: string;
  comment?: string;
  key?: string;
}

interface Wanted {
  group?: string;
  user?: string;
  key?: string;
}

function Groups({ of: cloud }: { of: string }) {
  const groups = useKeyGroups(cloud);
  const admin = useMe().data?.role === "admin";
  const [adding, setAdding] = useState(false);
  const rows: Row[] = (groups.data ?? []).flatMap((group): Row[] =>
    group.keys.length === 0 ? [] : group.keys.map((k) => ({ group, ...k })),
  );
  return (
    <Card
      size="small"
      className="before-m"
      title="Keys that it hands to groups of instances"
      styles={{ body: { padding: 0 } }}
      extra={
        admin && (
          <Button size="small" onClick={() => setAdding(true)}>
            Hand out a key
          </Button>
        )
      }
    >
      {groups.error && <ProblemNote error={groups.error} again={() => void groups.refetch()} />}
      <Table<Row>
        size="small"
        rowKey={(r) => `${r.group.id} ${r.user ?? ""} ${r.sha256 ?? ""}`}
        scroll={{ x: "max-content" }}
        loading={groups.isPending}
        dataSource={rows}
        pagination={{ pageSize: 50, hideOnSinglePage: true }}
        locale={{ emptyText: <EmptyNote text="It hands no key to a group, as it was last read." /> }}
        columns={[
          { title: "Group", key: "group", render: (_, r) => <strong>{r.group.name}</strong> },
          { title: "OS user", dataIndex: "user" },
          {
            title: "Key",
            key: "key",
            render: (_, r) =>
              r.key ? (
                <Link to={`/keys/${encodeURIComponent(r.key)}`}>{r.key}</Link>
              ) : (
                <span className="inline">
                  <Tag color="error">not recorded</Tag>
                  <CopyText text={r.sha256 ?? ""} label="fingerprint" shown={r.comment || r.sha256} />
                </span>
              ),
          },
          { title: "Instances that take it", key: "taking", align: "right", render: (_, r) => r.group.taking },
          { title: "That do not", key: "refusing", align: "right", render: (_, r) => r.group.refusing },
          {
            title: actionsHead,
            key: "do",
            align: "right",
            render: (_, r) => admin && <Removal of={r} cloud={cloud} />,
          },
        ]}
      />
      {adding && (
        <FormDialog<Wanted, KeyGroupEffect>
          title={`Have ${cloud} hand out a key`}
          act="Hand it out"
          stale="clouds"
          danger
          close={() => setAdding(false)}
          send={(v) =>
            take(
              api.POST("/clouds/{cloud}/key-groups", {
                params: { path: { cloud } },
                body: { group: v.group ?? "", user: v.user ?? "", key: v.key ?? "" },
              }),
            )
          }
        >
          <Form.Item name="group" label="Group" rules={[{ required: true, message: "Choose a group" }]}>
            <Select options={groups.data?.map((g) => ({ value: g.id, label: `${g.name} (${g.kind})` }))} />
          </Form.Item>
          <Form.Item name="user" label="OS user" rules={[{ required: true, message: "Name the OS user" }]}>
            <Input placeholder="ubuntu" />
          </Form.Item>
          <Form.Item
            name="key"
            label="Key"
            extra="It opens every instance of the group that takes such keys, beside the grants."
            rules={[{ required: true, message: "Name a key" }]}
          >
            <Input placeholder="rescue-2026" />
          </Form.Item>
        </FormDialog>
      )}
    </Card>
  );
}

function Removal({ of: r, cloud }: { of: Row; cloud: string }) {
  const [effect, setEffect] = useState<KeyGroupEffect>();
  const body = { group: r.group.id, user: r.user ?? "", key: r.key ?? r.sha256 ?? "", remove: true };
  const params = { path: { cloud } };
  const ask = useAct(
    () => take(api.POST("/clouds/{cloud}/key-groups", { params, body: { ...body, preview: true } })),
    "clouds",
    setEffect,
  );
  return (
    <>
      <Button size="small" danger loading={ask.isPending} onClick={() => ask.mutate(undefined)}>
        Remove
      </Button>
      {effect && (
        <FormDialog<{ reason?: string }, KeyGroupEffect>
          title={`Take the key out of ${effect.group}?`}
          act={effect.worse.length > 0 ? "Take it out all the same" : "Take it out"}
          stale="clouds"
          danger
          close={() => setEffect(undefined)}
          send={(v) =>
            take(
              api.POST("/clouds/{cloud}/key-groups", {
                params,
                body: { ...body, reason: v.reason, anyway: effect.worse.length > 0 },
              }),
            )
          }
        >
          <p>The cloud&apos;s process in each machine takes the line out: {counted(effect.logins.length, "login")}.</p>
          {effect.worse.length > 0 && (
            <p>
              <strong>Nobody else is known to get in to {counted(effect.worse.length, "login")}</strong>:{" "}
              {effect.worse
                .slice(0, 10)
                .map((w) => w.login)
                .join(", ")}
            </p>
          )}
          <Form.Item
            name="reason"
            label="Reason, for the daybook"
            rules={effect.worse.length > 0 ? [{ required: true, message: "Say why" }] : []}
          >
            <Input />
          </Form.Item>
        </FormDialog>
      )}
    </>
  );
}
