import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Card, Input, Modal, Select, Table, type TableColumnsType } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, requestKey, take, type FileVersion, type Login, type Opening, type Stranger } from "../../api/client";
import { useLogin, useMe, useVersions } from "../../api/queries";
import { day, moment } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { EmptyNote } from "../../parts/EmptyNote";
import { Facts } from "../../parts/Facts";
import { KeyGlyph } from "../../parts/KeyGlyph";
import { KeyName } from "../../parts/KeyName";
import { Loading } from "../../parts/Loading";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";
import { LoginActions } from "./LoginActions";
import { NextStep } from "./NextStep";
import { Settle } from "./Settle";
import { Withdraw } from "./Withdraw";
import { Ways } from "./Ways";
import { actionsHead } from "../../parts/actionsHead";

/** A login: who gets in today, by which key, proved when, and how its file changed. */
export default function LoginPage() {
  const { name = "" } = useParams();
  const login = useLogin(name);
  const me = useMe();
  const [withdrawing, setWithdrawing] = useState<Opening>();
  const [recording, setRecording] = useState<Stranger>();
  if (login.error) return <ProblemNote error={login.error} again={() => void login.refetch()} />;
  if (!login.data) return <Loading />;
  const l = login.data;
  const may = Boolean(me.data && me.data.role !== "viewer");
  return (
    <>
      <PageHead title={l.reach.login} note={<StateMark state={l.reach.reach} />}>
        <LoginActions of={l.reach} />
      </PageHead>
      <Card size="small" className="after-l">
        <Facts
          of={[
            ["Reach", l.reach.why],
            [
              "Instance",
              <Link key="i" to={`/instances/${encodeURIComponent(l.reach.instance)}`}>
                {l.reach.instance}
              </Link>,
            ],
            ["Last read", l.reach.swept_at ? `${moment(l.reach.swept_at)}, ${l.swept_by ?? ""}` : "never"],
            ["Last try", l.reach.sweep_error],
            ["Cloud's label", l.label],
            ["What to do next", l.reach.next && <NextStep key="n" of={l.reach} here />],
          ]}
        />
      </Card>
      <Card size="small" title="Keys" styles={{ body: { padding: 0 } }} className="after-l">
        <Table<Opening>
          size="small"
          rowKey={(o) => o.key.name}
          dataSource={l.openers}
          pagination={false}
          columns={keyColumns(may, l, setWithdrawing)}
          scroll={{ x: "max-content" }}
          locale={{ emptyText: <EmptyNote text="No recorded key is in place here or granted." /> }}
        />
      </Card>
      <Ways of={l} may={may} />
      {l.strangers.length > 0 && (
        <Card
          size="small"
          title="Strangers: keys in place here that are not recorded"
          styles={{ body: { padding: 0 } }}
          className="after-l"
        >
          <Table<Stranger>
            size="small"
            rowKey="sha256"
            dataSource={l.strangers}
            pagination={false}
            columns={strangerColumns(may, setRecording)}
            scroll={{ x: "max-content" }}
          />
        </Card>
      )}
      <Files of={l} />
      {withdrawing && (
        <Withdraw
          grants={[{ key: withdrawing.key.name, login: l.reach.login }]}
          close={() => setWithdrawing(undefined)}
        />
      )}
      {recording && <RecordStranger of={recording} close={() => setRecording(undefined)} />}
    </>
  );
}

function keyColumns(may: boolean, l: Login, withdraw: (o: Opening) => void): TableColumnsType<Opening> {
  const some = (f: (o: Opening) => unknown) => l.openers.some((o) => Boolean(f(o)));
  const columns: (TableColumnsType<Opening>[number] | false)[] = [
    { title: "Key", key: "key", render: (_, o) => <KeyName name={o.key.name} sha256={o.key.sha256} /> },
    {
      title: "Holder",
      key: "holder",
      render: (_, o) => (o.steward ? "the service's own" : (o.key.holder ?? "nobody")),
    },
    { title: "Status", key: "status", render: (_, o) => <StateMark state={o.status} /> },
    some((o) => o.key_state !== "active") && {
      title: "State",
      key: "state",
      render: (_, o) => o.key_state && o.key_state !== "active" && <StateMark state={o.key_state} />,
    },
    {
      title: "Private key proved",
      key: "proved",
      render: (_, o) => (o.steward ? "" : o.proved_at ? day(o.proved_at) : "never"),
    },
    some((o) => o.entered_at) && {
      title: "Logged in",
      key: "entered",
      render: (_, o) => (o.entered_at ? day(o.entered_at) : ""),
    },
    {
      title: "Granted",
      key: "granted",
      render: (_, o) =>
        o.granted_at
          ? `${day(o.granted_at)} by ${o.granted_by}${o.until ? `, until ${day(o.until)}` : ""}`
          : "by nobody",
    },
    some((o) => o.limits) && { title: "Limits", dataIndex: "limits" },
    {
      title: actionsHead,
      key: "do",
      align: "right",
      render: (_, o) =>
        may &&
        !o.steward && (
          <span className="inline">
            <Settle of={o} />
            <Button size="small" onClick={() => withdraw(o)}>
              {o.status === "ungranted" ? "Remove it" : "Withdraw"}
            </Button>
          </span>
        ),
    },
  ];
  return columns.filter((c) => c !== false);
}

const strangerColumns = (may: boolean, record: (g: Stranger) => void): TableColumnsType<Stranger> => [
  {
    title: "Key",
    key: "key",
    render: (_, g) => (
      <span className="inline middle">
        <KeyGlyph sha256={g.sha256} size={22} />
        <CopyText text={g.sha256} label="SHA-256 fingerprint" />
      </span>
    ),
  },
  { title: "Type", dataIndex: "algorithm" },
  { title: "Comment", dataIndex: "comment" },
  { title: "Limits", dataIndex: "limits" },
  { title: "First seen", key: "first", render: (_, g) => day(g.first_seen_at) },
  {
    title: actionsHead,
    key: "do",
    render: (_, g) =>
      may && (
        <Button size="small" onClick={() => record(g)}>
          Record it, to decide
        </Button>
      ),
  },
];

/** Gives a stranger's key a record; then it can be accepted or removed like any other. */
function RecordStranger({ of, close }: { of: Stranger; close: () => void }) {
  const [name, setName] = useState("");
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: (once: string) =>
      take(
        api.POST("/keys", {
          params: { header: { "Idempotency-Key": once } },
          body: { name, public_key: of.line, purpose: "found on an instance" },
        }),
      ),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["reach"] });
      close();
    },
  });
  return (
    <Modal
      open
      title="Record this key"
      onCancel={close}
      okText="Record it"
      onOk={() => save.mutate(requestKey())}
      confirmLoading={save.isPending}
      okButtonProps={{ disabled: !name }}
    >
      <p>With a record it is granted by nobody, and can be accepted or removed. Nothing changes on the instance now.</p>
      <CopyText block text={of.sha256} label="SHA-256 fingerprint" />
      <p>
        <label htmlFor="stranger-name">Name of the record</label>
        <Input
          id="stranger-name"
          autoFocus
          value={name}
          onChange={(e) => setName(e.target.value)}
          placeholder="found-on-ringing-web"
        />
      </p>
      {save.error && <ProblemNote error={save.error} />}
    </Modal>
  );
}

/** The files as they were last seen, and what changed from look to look. */
function Files({ of }: { of: Login }) {
  const versions = useVersions(of.reach.login);
  const there = of.files.filter((f) => f.there);
  const changes = versions.data?.filter((v) => v.came.length + v.went.length > 0) ?? [];
  if (of.files.length === 0) return null;
  const exposed = there.flatMap((f) => f.exposed.map((x) => ({ ...x, path: f.path })));
  return (
    <div className="columns cards">
      {exposed.map((x) => (
        <Alert
          key={x.path + x.sha256}
          type="error"
          showIcon
          className="whole-row"
          title={`A private key lies in ${x.path}, line ${x.line}: treat it as exposed`}
          description={
            <>
              Everybody who could read the file has it. Remove the lines there by hand, and replace the key pair.
              {x.public && (
                <>
                  {" "}
                  Its public key is <CopyText text={x.public} label="SHA-256 fingerprint" />.
                </>
              )}
            </>
          }
        />
      ))}
      {there.map((f) => (
        <Card
          key={f.path}
          size="small"
          title={
            <>
              {f.path}{" "}
              <span className="plain">
                mode {f.mode}, as of {moment(f.seen_until)}
              </span>
            </>
          }
        >
          {/* eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- it scrolls, by keyboard as well */}
          <section className="scrolls at-most-high" aria-label={`Lines of ${f.path}`} tabIndex={0}>
            <pre className="flush small">{f.content}</pre>
          </section>
        </Card>
      ))}
      <Card
        size="small"
        title="What changed between readings"
        extra={versions.data && <AnyTwo of={of.reach.login} versions={versions.data} />}
      >
        {changes.length === 0 ? (
          <EmptyNote
            text={
              `The first reading was on ${moment(versions.data?.at(-1)?.seen_at ?? of.files[0]?.seen_at ?? "")}. ` +
              "Nothing has changed since."
            }
          />
        ) : (
          changes.map((v) => <Change key={v.path + v.seen_at} of={v} />)
        )}
      </Card>
    </div>
  );
}

/** Compares any two looks at one file. */
function AnyTwo({ of, versions }: { of: string; versions: FileVersion[] }) {
  const [open, setOpen] = useState(false);
  const [from, setFrom] = useState<string>();
  const [to, setTo] = useState<string>();
  const path = versions.find((v) => v.id === from)?.path;
  const same = versions.filter((v) => !path || v.path === path);
  const compared = useQuery({
    queryKey: ["reach", "compare", of, from, to],
    enabled: open && Boolean(from && to),
    queryFn: () =>
      take(
        api.GET("/logins/{login}/drift", {
          params: { path: { login: of }, query: { from: from ?? "", to: to ?? "" } },
        }),
      ),
  });
  if (versions.length < 2) return null;
  const choices = (list: FileVersion[]) => list.map((v) => ({ value: v.id, label: `${moment(v.seen_at)}  ${v.path}` }));
  return (
    <>
      <Button size="small" onClick={() => setOpen(true)}>
        Compare any two readings
      </Button>
      <Modal open={open} width={760} title={`Two looks at ${of}`} onCancel={() => setOpen(false)} footer={null}>
        <div className="pair gap-m after-l">
          <Select
            aria-label="One look"
            placeholder="One look"
            value={from}
            onChange={(v) => {
              setFrom(v);
              setTo(undefined);
            }}
            options={choices(versions)}
          />
          <Select
            aria-label="The other look"
            placeholder="The other look"
            disabled={!from}
            value={to}
            onChange={setTo}
            options={choices(same.filter((v) => v.id !== from))}
          />
        </div>
        {compared.error && <ProblemNote error={compared.error} />}
        {compared.data &&
          (compared.data.came.length + compared.data.went.length === 0 ? (
            <EmptyNote text="No line came or went between them." />
          ) : (
            <Change of={compared.data} />
          ))}
      </Modal>
    </>
  );
}

function Change({ of }: { of: FileVersion }) {
  return (
    <div className="after-m">
      <div>
        {moment(of.seen_at)}, {of.method}
      </div>
      {/* eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- so that it scrolls by keyboard */}
      <pre className="flush before-xs small scrolls" tabIndex={0}>
        {of.went.map((line, i) => (
          <del key={`went ${i}`} className="block">
            - {line}
          </del>
        ))}
        {of.came.map((line, i) => (
          <ins key={`came ${i}`} className="block plain-ink">
            + {line}
          </ins>
        ))}
      </pre>
    </div>
  );
}
