import { App, Button, Card, Checkbox, Form, Input, Select, Table, type TableColumnsType } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, requestKey, take, type Holder, type Operator } from "../../api/client";
import { useHolders, useMe, useOperators } from "../../api/queries";
import { moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { FormDialog } from "../../parts/FormDialog";
import { Labels } from "../../parts/Labels";
import { labelsOf, LabelsInput } from "../../parts/LabelsInput";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";
import { useAct } from "../../parts/useAct";
import { SettingsTabs } from "./SettingsTabs";
import { actionsHead } from "../../parts/actionsHead";

type Role = Operator["role"];

const roles: { value: Role; label: string }[] = [
  { value: "viewer", label: "viewer: sees" },
  { value: "operator", label: "operator: sees and does" },
  { value: "admin", label: "admin: also people and settings" },
];

const stateOf = (o: Operator) => (o.leaving ? "leaving" : o.closed ? "closed" : "open");

/** Who may do what, and which teams there are. */
export default function People() {
  const people = useOperators();
  const holders = useHolders();
  const [adding, setAdding] = useState<"person" | "team">();
  const [changing, setChanging] = useState<Operator>();
  const close = () => {
    setAdding(undefined);
    setChanging(undefined);
  };
  if (people.error) return <ProblemNote error={people.error} again={() => void people.refetch()} />;
  return (
    <>
      <PageHead title="People and teams" note="who may do what, and on which instances">
        <Button onClick={() => setAdding("team")}>Make a team</Button>
        <Button type="primary" onClick={() => setAdding("person")}>
          Add a person
        </Button>
      </PageHead>
      <SettingsTabs />
      <Card size="small" title="People" styles={{ body: { padding: 0 } }} className="after-l">
        <Table<Operator>
          size="small"
          rowKey="name"
          pagination={false}
          loading={people.isPending}
          dataSource={people.data}
          columns={columns(setChanging)}
          scroll={{ x: "max-content" }}
        />
      </Card>
      <Teams teams={holders.data?.filter((k) => k.kind === "team")} people={people.data ?? []} />
      {adding === "person" && <AddPerson close={close} />}
      {adding === "team" && <AddTeam close={close} />}
      {changing && <ChangePerson of={changing} close={close} />}
    </>
  );
}

const columns = (change: (o: Operator) => void): TableColumnsType<Operator> => [
  { title: "Name", key: "name", render: (_, o) => <strong>{o.name}</strong> },
  { title: "Who", dataIndex: "title" },
  { title: "Role", key: "role", render: (_, o) => (o.machine ? `${o.role}, machine` : o.role) },
  {
    title: "Limited to",
    key: "limits",
    render: (_, o) => (Object.keys(o.limits).length > 0 ? <Labels labels={o.limits} list="/instances" /> : ""),
  },
  { title: "Teams", key: "teams", render: (_, o) => o.teams.join(", ") },
  {
    title: "Signs in by",
    key: "by",
    render: (_, o) =>
      [
        o.password && (o.factor ? "password and second factor" : "password"),
        o.issuer_name && `issuer, as ${o.issuer_name}`,
      ]
        .filter(Boolean)
        .join("; "),
  },
  { title: "Last seen", key: "seen", render: (_, o) => (o.last_seen_at ? moment(o.last_seen_at) : "never") },
  { title: "State", key: "state", render: (_, o) => <StateMark state={stateOf(o)} /> },
  {
    title: actionsHead,
    key: "do",
    align: "right",
    render: (_, o) => (
      <span className="inline">
        <Button size="small" aria-label={`Change ${o.name}`} onClick={() => change(o)}>
          Change
        </Button>
        {(!o.closed || o.leaving) && (
          <Link to={`/settings/people/${encodeURIComponent(o.name)}/leaving`}>
            <Button size="small">Leaving</Button>
          </Link>
        )}
      </span>
    ),
  },
];

function AddTeam({ close }: { close: () => void }) {
  const [once] = useState(requestKey);
  return (
    <FormDialog<{ name: string; title?: string }, unknown>
      title="Make a team"
      act="Make it"
      stale="holders"
      close={close}
      send={(body) => take(api.POST("/teams", { params: { header: { "Idempotency-Key": once } }, body }))}
    >
      <Form.Item name="name" label="Name" rules={[{ required: true, message: "Give it a name" }]}>
        <Input placeholder="cameras" />
      </Form.Item>
      <Form.Item name="title" label="What it is, in words">
        <Input placeholder="the camera crew" />
      </Form.Item>
    </FormDialog>
  );
}

interface PersonForm {
  name: string;
  title?: string;
  role: Role;
  password?: string;
  limits?: string;
  issuer_name?: string;
  machine?: boolean;
}

function AddPerson({ close }: { close: () => void }) {
  const [once] = useState(requestKey);
  return (
    <FormDialog<PersonForm, unknown>
      title="Add a person"
      act="Add them"
      stale="operators"
      close={close}
      initial={{ role: "operator" }}
      send={(v) =>
        take(
          api.POST("/operators", {
            params: { header: { "Idempotency-Key": once } },
            body: {
              name: v.name,
              title: v.title,
              role: v.role,
              password: v.password || undefined,
              issuer_name: v.issuer_name || undefined,
              limits: labelsOf(v.limits),
              machine: v.machine || undefined,
            },
          }),
        )
      }
    >
      <Form.Item name="name" label="Name" rules={[{ required: true, message: "Give a name" }]}>
        <Input autoComplete="off" placeholder="runa" />
      </Form.Item>
      <Form.Item name="title" label="Who that is, in words">
        <Input placeholder="Runa Lund, cameras" />
      </Form.Item>
      <Form.Item name="role" label="Role">
        <Select options={roles} />
      </Form.Item>
      <LabelsInput name="limits" label="Only for instances with" />
      <Form.Item name="password" label="First password" extra="10 characters or more; they change it once they are in.">
        <Input.Password autoComplete="new-password" />
      </Form.Item>
      <Form.Item name="issuer_name" label="Or what the OpenID Connect issuer calls them">
        <Input autoComplete="off" placeholder="runa@wrackline.example" />
      </Form.Item>
      <Form.Item name="machine" valuePropName="checked">
        <Checkbox>It is a machine: with no password, by tokens that an admin makes</Checkbox>
      </Form.Item>
    </FormDialog>
  );
}

interface ChangeForm {
  role: Role;
  limits?: string;
  password?: string;
  issuer_name?: string;
  reason?: string;
}

function ChangePerson({ of, close }: { of: Operator; close: () => void }) {
  const { modal } = App.useApp();
  const me = useMe().data;
  const params = { path: { operator: of.name }, header: { "If-Match": of.etag } };
  const act = useAct(
    (body: { closed?: boolean; forget_factor?: boolean }) => take(api.PATCH("/operators/{operator}", { params, body })),
    "operators",
    close,
  );
  const before = Object.entries(of.limits)
    .map(([k, v]) => `${k}=${v}`)
    .join(" ");
  return (
    <FormDialog<ChangeForm, unknown>
      title={`Change ${of.name}`}
      act="Change it"
      stale="operators"
      close={close}
      initial={{ role: of.role, limits: before, issuer_name: of.issuer_name }}
      send={(v) =>
        take(
          api.PATCH("/operators/{operator}", {
            params,
            body: {
              role: v.role === of.role ? undefined : v.role,
              limits: (v.limits ?? "") === before ? undefined : (labelsOf(v.limits) ?? {}),
              password: v.password || undefined,
              issuer_name: (v.issuer_name ?? "") === (of.issuer_name ?? "") ? undefined : v.issuer_name,
              reason: v.reason || undefined,
            },
          }),
        )
      }
    >
      <Form.Item name="role" label="Role">
        <Select options={roles} />
      </Form.Item>
      <LabelsInput name="limits" label="Only for instances with" />
      <Form.Item name="password" label="New password" extra="Their sessions end.">
        <Input.Password autoComplete="new-password" />
      </Form.Item>
      <Form.Item name="issuer_name" label="What the OpenID Connect issuer calls them">
        <Input autoComplete="off" />
      </Form.Item>
      <Form.Item name="reason" label="Why, for the daybook">
        <Input />
      </Form.Item>
      <div className="row after-l">
        {of.factor && (
          <Button
            onClick={() =>
              void modal.confirm({
                title: `Take the second factor of ${of.name} away?`,
                content:
                  "They sign in with their password alone until they add another. Be sure that it is they who ask.",
                okText: "Take it away",
                okButtonProps: { danger: true },
                onOk: () => act.mutateAsync({ forget_factor: true }).catch(() => {}),
              })
            }
          >
            Take the second factor away
          </Button>
        )}
        {!of.closed && of.name !== me?.name && (
          <Button
            danger
            onClick={() =>
              void modal.confirm({
                title: `Close the account of ${of.name} at once?`,
                content:
                  "Their sessions and tokens end now. Their keys stay where they are: for somebody who goes for " +
                  "good, use Leaving.",
                okText: "Close it",
                okButtonProps: { danger: true },
                onOk: () => act.mutateAsync({ closed: true }).catch(() => {}),
              })
            }
          >
            Close the account
          </Button>
        )}
        {of.closed && <Button onClick={() => act.mutate({ closed: false })}>Open the account again</Button>}
      </div>
    </FormDialog>
  );
}

function Teams({ teams, people }: { teams?: Holder[]; people: Operator[] }) {
  const { modal } = App.useApp();
  const join = useAct(
    ({ team, who }: { team: string; who: string }) =>
      take(api.PUT("/teams/{team}/members/{operator}", { params: { path: { team, operator: who } } })),
    "holders",
  );
  const part = useAct(
    ({ team, who }: { team: string; who: string }) =>
      take(api.DELETE("/teams/{team}/members/{operator}", { params: { path: { team, operator: who } } })),
    "holders",
  );
  const end = useAct((team: string) => take(api.DELETE("/teams/{team}", { params: { path: { team } } })), "holders");
  const columns: TableColumnsType<Holder> = [
    { title: "Team", key: "name", render: (_, t) => <strong>{t.name}</strong> },
    { title: "What it is", dataIndex: "title" },
    {
      title: "Members",
      key: "members",
      render: (_, t) => (
        <Select
          mode="multiple"
          aria-label={`Members of ${t.name}`}
          className="field-wide"
          placeholder="nobody yet"
          value={t.members ?? []}
          options={people.filter((p) => !p.closed).map((p) => ({ value: p.name }))}
          onSelect={(who: string) => join.mutate({ team: t.name, who })}
          onDeselect={(who: string) => part.mutate({ team: t.name, who })}
        />
      ),
    },
    {
      title: actionsHead,
      key: "do",
      align: "right",
      render: (_, t) => (
        <Button
          size="small"
          danger
          aria-label={`End it: ${t.name}`}
          onClick={() =>
            void modal.confirm({
              title: `End the team ${t.name}?`,
              content: "Its members keep their own keys. A team that holds keys cannot be ended.",
              okText: "End it",
              okButtonProps: { danger: true },
              onOk: () => end.mutateAsync(t.name).catch(() => {}),
            })
          }
        >
          End it
        </Button>
      ),
    },
  ];
  return (
    <Card size="small" title="Teams" styles={{ body: { padding: 0 } }}>
      <Table<Holder>
        size="small"
        rowKey="name"
        pagination={false}
        loading={!teams}
        dataSource={teams}
        columns={columns}
        locale={{ emptyText: <EmptyNote text="There is no team." /> }}
      />
    </Card>
  );
}
