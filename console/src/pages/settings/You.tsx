import {
  Alert,
  Button,
  Card,
  Form,
  Input,
  InputNumber,
  Modal,
  Popconfirm,
  QRCode,
  Select,
  Switch,
  Table,
  Typography,
  type TableColumnsType,
} from "antd";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, requestKey, take, type Session, type Token } from "../../api/client";
import { useMail, useMe, useSessions, useTokens } from "../../api/queries";
import { day, moment } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { EmptyNote } from "../../parts/EmptyNote";
import { Facts } from "../../parts/Facts";
import { FormDialog } from "../../parts/FormDialog";
import { Labels } from "../../parts/Labels";
import { labelsOf, LabelsInput } from "../../parts/LabelsInput";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { useAct } from "../../parts/useAct";
import { Passkeys } from "./Passkeys";
import { SettingsTabs } from "./SettingsTabs";
import { actionsHead } from "../../parts/actionsHead";

/** Where the person gets mail about what they have to do. The link of a mail leads here, with its code. */
function Mail() {
  const mail = useMail();
  const queries = useQueryClient();
  const [here, go] = useSearchParams();
  const [asking, setAsking] = useState(false);
  const code = here.get("mail");
  const again = () => void queries.invalidateQueries({ queryKey: ["mail"] });
  const confirm = useMutation({
    mutationFn: () => take(api.POST("/mail/confirmation", { body: { code: code ?? "" } })),
    onSuccess: () => {
      go({}, { replace: true });
      again();
    },
  });
  const forget = useMutation({ mutationFn: () => take(api.DELETE("/mail")), onSuccess: again });
  const m = mail.data;
  if (!m?.enabled) return null;
  return (
    <>
      <Facts
        of={[
          [
            "E-mail",
            m.address ? (
              <span key="a">
                {m.address}, {m.confirmed_at ? `confirmed on ${day(m.confirmed_at)}` : "not confirmed yet"}{" "}
                <Button size="small" loading={forget.isPending} onClick={() => forget.mutate()}>
                  Forget it
                </Button>
              </span>
            ) : (
              <Button key="a" size="small" onClick={() => setAsking(true)}>
                Get mail about what you have to do
              </Button>
            ),
          ],
          ["Last mail", m.sent_at && moment(m.sent_at)],
        ]}
      />
      {m.problem && <Alert type="warning" showIcon title={`The last mail could not be sent: ${m.problem}`} />}
      {code && !m.confirmed_at && (
        <Button type="primary" loading={confirm.isPending} onClick={() => confirm.mutate()}>
          Confirm this address
        </Button>
      )}
      {confirm.error && <ProblemNote error={confirm.error} />}
      {forget.error && <ProblemNote error={forget.error} />}
      {asking && (
        <FormDialog<{ password: string; address: string }, unknown>
          title="Get mail"
          act="Send a code there"
          stale="mail"
          close={() => setAsking(false)}
          send={async ({ password, address }) => {
            await take(api.POST("/session/confirmation", { body: { password } }));
            return take(api.PUT("/mail", { body: { address } }));
          }}
        >
          <Form.Item
            name="address"
            label="E-mail address"
            extra="One mail a day at most, and at once what keeps you out. A mail names keys, and nothing else of them."
            rules={[{ required: true, message: "Give your address" }]}
          >
            <Input autoComplete="email" />
          </Form.Item>
          <Form.Item name="password" label="Your password" rules={[{ required: true, message: "Give your password" }]}>
            <Input.Password autoComplete="current-password" />
          </Form.Item>
        </FormDialog>
      )}
    </>
  );
}

/** What concerns the person who looks: password, second factor, sessions and tokens. */
export default function You() {
  const me = useMe().data;
  const [all, setAll] = useState(false);
  const [open, setOpen] = useState<"password" | "factor" | "give up" | "token">();
  const [secret, setSecret] = useState<string>();
  const close = () => setOpen(undefined);
  if (!me) return null;
  const everybody = me.role === "admin" && (
    <span className="inline middle">
      <Switch size="small" checked={all} onChange={setAll} aria-label="Of everybody" /> of everybody
    </span>
  );
  return (
    <>
      <PageHead title="Settings" note={`signed in as ${me.name}, ${me.role}`} />
      <SettingsTabs />
      <div className="columns one-three top">
        <Card size="small" title="Signing in">
          <Facts
            of={[
              ["Limited to", Object.keys(me.limits).length > 0 && <Labels labels={me.limits} list="/instances" />],
              [
                "Password",
                <Button key="p" size="small" onClick={() => setOpen("password")}>
                  Change it
                </Button>,
              ],
              [
                "Second factor",
                me.factor ? (
                  <span key="f">
                    in use{" "}
                    <Button size="small" danger onClick={() => setOpen("give up")}>
                      Give it up
                    </Button>
                  </span>
                ) : (
                  <span key="f">
                    none{" "}
                    <Button size="small" type="primary" onClick={() => setOpen("factor")}>
                      Add one
                    </Button>
                  </span>
                ),
              ],
            ]}
          />
          <Mail />
        </Card>
        <div className="stack">
          <Passkeys />
          <Sessions all={all} extra={everybody} />
          <Tokens all={all} add={() => setOpen("token")} />
        </div>
      </div>
      {open === "password" && (
        <FormDialog<{ password: string; new_password: string }, unknown>
          title="Change your password"
          act="Change it"
          stale="sessions"
          close={close}
          send={async (body) => {
            await take(api.POST("/session/confirmation", { body: { password: body.password } }));
            return take(api.POST("/session/password", { body }));
          }}
        >
          <Form.Item
            name="password"
            label="Current password"
            rules={[{ required: true, message: "Give your password" }]}
          >
            <Input.Password autoComplete="current-password" />
          </Form.Item>
          <Form.Item
            name="new_password"
            label="New password"
            extra="10 characters or more. Your other sessions end."
            rules={[{ required: true, min: 10, message: "10 characters or more" }]}
          >
            <Input.Password autoComplete="new-password" />
          </Form.Item>
        </FormDialog>
      )}
      {open === "factor" && <AddFactor close={close} />}
      {open === "give up" && (
        <FormDialog<{ code: string }, unknown>
          title="Give your second factor up"
          act="Give it up"
          danger
          stale="me"
          close={close}
          send={(body) => take(api.POST("/factor/removal", { body }))}
        >
          <Form.Item
            name="code"
            label="Code"
            extra="Six digits of your authenticator, or a recovery code."
            rules={[{ required: true, message: "Give a code" }]}
          >
            <Input autoComplete="one-time-code" />
          </Form.Item>
        </FormDialog>
      )}
      {open === "token" && <AddToken close={close} made={setSecret} />}
      <Modal
        open={secret !== undefined}
        title="The token's secret, shown only now"
        footer={
          <Button type="primary" onClick={() => setSecret(undefined)}>
            I have kept it
          </Button>
        }
        onCancel={() => setSecret(undefined)}
        mask={{ closable: false }}
      >
        {secret && <CopyText block text={secret} label="secret" />}
      </Modal>
    </>
  );
}

/** Asks once more before something ends. */
function Sure({ title, act, go, children }: { title: string; act: string; go: () => void; children: React.ReactNode }) {
  return (
    <Popconfirm title={title} okText={act} okButtonProps={{ danger: true }} cancelText="Leave it" onConfirm={go}>
      {children}
    </Popconfirm>
  );
}

function Sessions({ all, extra }: { all: boolean; extra: React.ReactNode }) {
  const sessions = useSessions(all);
  const end = useAct(
    (id: string) => take(api.DELETE("/sessions/{session}", { params: { path: { session: id } } })),
    "sessions",
  );
  const columns: TableColumnsType<Session> = [
    {
      title: "Who",
      key: "who",
      render: (_, n) => (
        <>
          {n.person}
          {n.own && <Typography.Text type="secondary"> (this one)</Typography.Text>}
        </>
      ),
    },
    { title: "Begun", key: "begun", render: (_, n) => moment(n.created_at) },
    { title: "Last used", key: "seen", render: (_, n) => moment(n.seen_at) },
    { title: "Valid until", key: "until", render: (_, n) => moment(n.expires_at) },
    { title: "From", key: "from", render: (_, n) => `${n.address}, ${n.via}` },
    {
      title: actionsHead,
      key: "do",
      align: "right",
      render: (_, n) =>
        !n.own && (
          <Sure title={`End the session of ${n.person}?`} act="End the session" go={() => end.mutate(n.id)}>
            <Button size="small">End it</Button>
          </Sure>
        ),
    },
  ];
  return (
    <Card size="small" title="Console sessions" extra={extra} styles={{ body: { padding: 0 } }}>
      <Table<Session>
        size="small"
        rowKey="id"
        pagination={false}
        loading={sessions.isPending}
        dataSource={sessions.data}
        columns={columns}
        scroll={{ x: "max-content" }}
        locale={{ emptyText: <EmptyNote text="There are no console sessions." /> }}
      />
    </Card>
  );
}

function Tokens({ all, add }: { all: boolean; add: () => void }) {
  const tokens = useTokens(all);
  const revoke = useAct(
    (id: string) => take(api.DELETE("/tokens/{token}", { params: { path: { token: id } } })),
    "tokens",
  );
  const columns: TableColumnsType<Token> = [
    { title: "Name", dataIndex: "name" },
    { title: "Whose", dataIndex: "person" },
    {
      title: "May",
      key: "may",
      render: (_, k) => (
        <>
          {k.only ? [k.only, k.charter, k.unsigned ? "unsigned" : "", "alone"].filter(Boolean).join(" ") : k.role}
          {Object.keys(k.limits).length > 0 && (
            <>
              {" "}
              <Labels labels={k.limits} list="/instances" />
            </>
          )}
        </>
      ),
    },
    { title: "Made", key: "made", render: (_, k) => day(k.created_at) },
    { title: "Valid until", key: "until", render: (_, k) => (k.expires_at ? day(k.expires_at) : "no end") },
    { title: "Last used", key: "used", render: (_, k) => (k.last_used_at ? moment(k.last_used_at) : "never") },
    {
      title: actionsHead,
      key: "do",
      align: "right",
      render: (_, k) => (
        <Sure
          title={`Revoke ${k.name}? Whatever uses it is refused from then on, for good.`}
          act="Revoke the token"
          go={() => revoke.mutate(k.id)}
        >
          <Button size="small" danger>
            Revoke
          </Button>
        </Sure>
      ),
    },
  ];
  return (
    <Card
      size="small"
      title="Tokens for programs"
      extra={
        <Button size="small" type="primary" onClick={add}>
          Make a token
        </Button>
      }
      styles={{ body: { padding: 0 } }}
    >
      <Table<Token>
        size="small"
        rowKey="id"
        pagination={false}
        loading={tokens.isPending}
        dataSource={tokens.data}
        columns={columns}
        scroll={{ x: "max-content" }}
        locale={{ emptyText: <EmptyNote text="You have no token." /> }}
      />
    </Card>
  );
}

interface TokenForm {
  name: string;
  may: "viewer" | "operator" | "admin" | "sweep" | "read" | "compare" | "settle";
  charter?: string;
  machine?: string;
  days: number;
  limits?: string;
}

function AddToken({ close, made }: { close: () => void; made: (secret: string) => void }) {
  const role = useMe().data?.role ?? "viewer";
  const roles = (["viewer", "operator", "admin"] as const).slice(0, { viewer: 1, operator: 2, admin: 3 }[role]);
  const [once] = useState(requestKey);
  return (
    <FormDialog<TokenForm, { secret: string }>
      title="Make a token"
      act="Make it"
      stale="tokens"
      close={close}
      done={(r) => made(r.secret)}
      initial={{ may: role, days: 90 }}
      send={(v) =>
        take(
          api.POST("/tokens", {
            params: { header: { "Idempotency-Key": once } },
            body: {
              name: v.name,
              days: v.days,
              limits: labelsOf(v.limits),
              charter: v.may === "settle" ? v.charter : undefined,
              for: v.machine || undefined,
              ...(v.may === "viewer" || v.may === "operator" || v.may === "admin" ? { role: v.may } : { only: v.may }),
            },
          }),
        )
      }
    >
      <Form.Item name="name" label="Name" rules={[{ required: true, message: "Give it a name" }]}>
        <Input placeholder="nightly-sweep" />
      </Form.Item>
      <Form.Item name="may" label="It may">
        <Select
          options={[
            ...roles.map((r) => ({ value: r, label: `what the role ${r} may` })),
            { value: "read", label: "only read" },
            { value: "compare", label: "only compare charters" },
            ...(role === "viewer"
              ? []
              : [
                  { value: "sweep", label: "only sweep" },
                  { value: "settle", label: "only settle one charter that a person has signed" },
                ]),
          ]}
        />
      </Form.Item>
      <Form.Item noStyle shouldUpdate={(a: TokenForm, b: TokenForm) => a.may !== b.may}>
        {({ getFieldValue }) =>
          getFieldValue("may") === "settle" && (
            <Form.Item name="charter" label="Charter" rules={[{ required: true, message: "Name the charter" }]}>
              <Input placeholder="field" />
            </Form.Item>
          )
        }
      </Form.Item>
      {role === "admin" && (
        <Form.Item name="machine" label="For the machine; for you unless given">
          <Input placeholder="ci" />
        </Form.Item>
      )}
      <LabelsInput name="limits" label="Only for instances with" />
      <Form.Item name="days" label="Valid for (days)">
        <InputNumber min={1} max={366} />
      </Form.Item>
    </FormDialog>
  );
}

/** The secret first, then a code of it, then the recovery codes. */
function AddFactor({ close }: { close: () => void }) {
  const [codes, setCodes] = useState<string[]>();
  const begin = useAct(() => take(api.POST("/factor")), "me");
  const confirm = useAct(
    (code: string) => take(api.POST("/factor/confirmation", { body: { code } })),
    "me",
    (r) => setCodes(r.codes),
  );
  if (codes) {
    return (
      <Modal
        open
        title="Your recovery codes, shown only now"
        onCancel={close}
        footer={
          <Button type="primary" onClick={close}>
            I have kept them
          </Button>
        }
        mask={{ closable: false }}
      >
        <Alert
          type="success"
          showIcon
          className="after-m"
          title="The second factor is in use"
          description="Each of these lets you in once without your authenticator."
        />
        <CopyText block text={codes.join("\n")} shown={codes.join("  ")} label="recovery codes" />
      </Modal>
    );
  }
  return (
    <Modal open title="Add a second factor" onCancel={close} footer={null}>
      {!begin.data && (
        <>
          <p>An authenticator shows six digits, which are asked for at each sign-in after the password.</p>
          <Button type="primary" loading={begin.isPending} onClick={() => begin.mutate(undefined)}>
            Show the secret
          </Button>
        </>
      )}
      {begin.data && (
        <Form layout="vertical" requiredMark={false} onFinish={(v: { code: string }) => confirm.mutate(v.code)}>
          <p>Have your authenticator read this, or type the secret into it:</p>
          <div className="row gap-l middle after-m">
            <QRCode value={begin.data.url} size={150} bgColor="#fff" color="#000" />
            <CopyText text={begin.data.secret} label="secret" />
          </div>
          <Form.Item
            name="code"
            label="The six digits that it shows"
            rules={[{ required: true, message: "Give the digits" }]}
          >
            <Input autoComplete="one-time-code" />
          </Form.Item>
          <Button type="primary" htmlType="submit" loading={confirm.isPending}>
            Put it into use
          </Button>
        </Form>
      )}
    </Modal>
  );
}
