import { Alert, Card, Table } from "antd";
import { Link } from "react-router";
import type { CharterChange, CharterComparison, CharterFlaw, CharterReach } from "../../api/client";
import { counted, moment } from "../../format";
import { StateMark } from "../../parts/StateMark";

/** What changes do, in words. A new kind is a compile error. */
export const kindWords: Record<CharterChange["kind"], string> = {
  "import-key": "import the key",
  "describe-key": "describe the key",
  launch: "launch",
  adopt: "adopt",
  "bring-in": "bring in",
  "label-instance": "label",
  own: "take over the grant",
  record: "grant what is in place",
  place: "place the key",
  loosen: "loosen its limits",
  "change-end": "change the end",
  forget: "end the grant, whose line is missing",
  limit: "limit it",
  withdraw: "withdraw the key",
};

/** The login or the instance that a change is about. */
export function Where({ of: c }: { of: CharterChange }) {
  if (c.login) return <Link to={`/logins/${encodeURIComponent(c.login)}`}>{c.login}</Link>;
  return <>{c.instance}</>;
}

function at(f: CharterFlaw) {
  return f.at ? `${f.at.file}:${f.at.line}:${f.at.column}` : "";
}

/** What differs from a charter, and what becomes of the logins. */
export function Comparison({ of: c }: { of: CharterComparison }) {
  return (
    <>
      {c.flaws.length > 0 && (
        <Alert
          type="error"
          showIcon
          className="after-m"
          title="Nothing is settled while the charter has flaws"
          description={<Flaws list={c.flaws} />}
        />
      )}
      {c.flaws.length === 0 && c.refused && (
        <Alert type="error" showIcon className="after-m" title="This is refused" description={c.refused} />
      )}
      {c.flaws.length === 0 && c.changes.length === 0 && (
        <Alert type="success" showIcon className="after-m" title={`${c.charter} is so: nothing differs`} />
      )}
      {c.changes.length > 0 && (
        <Card
          size="small"
          className="after-m"
          title={counted(c.changes.length, "change")}
          styles={{ body: { padding: 0 } }}
        >
          <Table<CharterChange>
            size="small"
            rowKey={(r) => [r.kind, r.key, r.login, r.instance].join(" ")}
            pagination={c.changes.length > 100 ? { pageSize: 100, showSizeChanger: false } : false}
            dataSource={c.changes}
            columns={[
              { title: "Change", key: "kind", render: (_, r) => kindWords[r.kind] },
              {
                title: "Key",
                key: "key",
                render: (_, r) =>
                  r.key ? <Link to={`/keys/${encodeURIComponent(r.key)}`}>{r.key}</Link> : r.keys?.join(", "),
              },
              { title: "Where", key: "where", render: (_, r) => <Where of={r} /> },
              ...(c.changes.some((r) => r.until)
                ? [
                    {
                      title: "Until",
                      key: "until",
                      render: (_: unknown, r: CharterChange) => r.until && moment(r.until),
                    },
                  ]
                : []),
              ...(c.changes.some((r) => r.limits || r.limited)
                ? [
                    {
                      title: "Limits",
                      key: "limits",
                      render: (_: unknown, r: CharterChange) =>
                        r.limits ?? (r.limited ? `none; now ${r.limited}` : undefined),
                    },
                  ]
                : []),
              { title: "From", key: "at", render: (_, r) => r.at && `${r.at.file}:${r.at.line}` },
              {
                title: "Why",
                key: "why",
                render: (_, r) => (r.unable ? <span className="warn">! cannot be done now: {r.unable}</span> : r.why),
              },
            ]}
          />
        </Card>
      )}
      {c.reach.length > 0 && (
        <Card size="small" className="after-m" title="Logins whose reach changes" styles={{ body: { padding: 0 } }}>
          <Table<CharterReach>
            size="small"
            rowKey="login"
            pagination={c.reach.length > 100 ? { pageSize: 100, showSizeChanger: false } : false}
            dataSource={c.reach}
            columns={[
              {
                title: "Login",
                key: "login",
                render: (_, r) => <Link to={`/logins/${encodeURIComponent(r.login)}`}>{r.login}</Link>,
              },
              { title: "Now", key: "before", render: (_, r) => <StateMark state={r.before} /> },
              { title: "After", key: "after", render: (_, r) => <StateMark state={r.after} /> },
              ...(c.reach.some((r) => r.refused) ? [{ title: "Refused", dataIndex: "refused" }] : []),
            ]}
          />
        </Card>
      )}
      {c.notes.length > 0 && (
        <Card size="small" className="after-m" title="To know">
          <Flaws list={c.notes} />
        </Card>
      )}
    </>
  );
}

function Flaws({ list }: { list: CharterFlaw[] }) {
  return (
    <ul className="list">
      {list.map((f) => (
        <li key={at(f) + f.what}>
          {f.at && <code>{at(f)}</code>} {f.what}. {f.remedy}
        </li>
      ))}
    </ul>
  );
}
