import { Select, Tag } from "antd";
import { Link } from "react-router";
import type { GrantRecord } from "../../api/client";
import { useGrants, useHolders, useMe } from "../../api/queries";
import { day, moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { KeyName } from "../../parts/KeyName";
import { PagedTable } from "../../parts/list/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { SearchBox } from "../../parts/SearchBox";
import { StateMark } from "../../parts/StateMark";
import { usePlace } from "../../parts/usePlace";
import { WithdrawButton } from "../logins/WithdrawButton";
import { ReachTabs } from "../reach/ReachTabs";
import { Toggle } from "../../parts/Toggle";
import type { Column } from "../../parts/list/column";

/** What is wanted: which key should open which login, since when, until when, by whom and why. */
export default function Grants() {
  const { get, set } = usePlace();
  const holders = useHolders();
  const f = {
    login: get("login"),
    holder: get("holder"),
    key: get("key"),
    label: get("label"),
    ended: get("ended"),
    until: get("until"),
    overdue: get("overdue"),
    own: get("own"),
  };
  const pages = useGrants(f);
  const may = useMe().data?.role !== "viewer";
  const ended = f.ended === "true";
  return (
    <>
      <PageHead title="Grants" note="what is wanted: which key should open which login" />
      <ReachTabs />
      <PagedTable<GrantRecord>
        filters={
          <>
            <SearchBox
              value={f.login ?? ""}
              change={(v) => set("login", v || undefined)}
              hint="Instance, or user@instance"
            />
            <Select
              allowClear
              showSearch
              placeholder="Holder"
              aria-label="Holder"
              className="field-m"
              value={f.holder}
              onChange={(v) => set("holder", v)}
              options={holders.data?.map((k) => ({ value: k.name, label: k.name }))}
            />
            {(["key", "label"] as const).map(
              (n) =>
                f[n] && (
                  <Tag key={n} closable onClose={() => set(n, undefined)}>
                    {n} {f[n]}
                  </Tag>
                ),
            )}
            <Toggle on={f.until === "true"} change={(to) => set("until", to)}>
              only with an end
            </Toggle>
            <Toggle on={f.overdue === "true"} change={(to) => set("overdue", to)}>
              past their end
            </Toggle>
            <Toggle on={ended} change={(to) => set("ended", to)}>
              those withdrawn
            </Toggle>
            <Toggle on={f.own === "true"} change={(to) => set("own", to)}>
              of steward keys too
            </Toggle>
          </>
        }
        pages={pages}
        noun="grant"
        rowKey={(g) => `${g.login} ${g.key.name} ${g.granted_at}`}
        columns={columnsFor(ended)}
        empty={<EmptyNote text="No grant matches." />}
        acts={
          may && !ended
            ? (rows) => <WithdrawButton grants={rows.map((g) => ({ key: g.key.name, login: g.login }))} />
            : undefined
        }
        nameOf={(g) => `${g.key.name} in ${g.login}`}
      />
    </>
  );
}

const columnsFor = (ended: boolean): Column<GrantRecord>[] => [
  {
    title: "Login",
    key: "login",
    text: (g) => g.login,
    render: (g) => <Link to={`/logins/${encodeURIComponent(g.login)}`}>{g.login}</Link>,
  },
  {
    title: "Key",
    key: "key",
    text: (g) => g.key.name,
    render: (g) => (
      <>
        <KeyName name={g.key.name} sha256={g.key.sha256} />
        {g.limits && <div className="code anywhere">{g.limits}</div>}
      </>
    ),
  },
  { title: "Holder", key: "holder", text: (g) => (g.steward ? "the service's own" : (g.key.holder ?? "nobody")) },
  { title: "Granted", key: "granted", text: (g) => `${day(g.granted_at)} by ${g.granted_by}` },
  ended
    ? {
        title: "Withdrawn",
        key: "ended",
        text: (g) => (g.withdrawn_at ? `${day(g.withdrawn_at)} by ${g.withdrawn_by ?? ""}` : ""),
      }
    : {
        title: "Until",
        key: "until",
        text: (g) => (g.until ? moment(g.until) : ""),
        render: (g) => g.until && <End of={g} />,
      },
  ...(ended
    ? []
    : [
        {
          title: "Status",
          key: "status",
          text: (g: GrantRecord) => g.status,
          render: (g: GrantRecord) => g.status && <StateMark state={g.status} />,
        },
      ]),
  { title: "Why", key: "why", text: (g) => g.reason },
  {
    title: "Charter",
    key: "charter",
    text: (g) => g.charter && `${g.charter} ${g.charter_at ?? ""}`,
    render: (g) =>
      g.charter && (
        <>
          <Link to={`/charters/${encodeURIComponent(g.charter)}`} className="in-text">
            {g.charter}
          </Link>{" "}
          {g.charter_at}
        </>
      ),
  },
];

/** When a grant ends, and why it has not ended yet where it should have. */
function End({ of: g }: { of: GrantRecord }) {
  if (!g.overdue) return <>{moment(g.until ?? "")}</>;
  return (
    <>
      <Tag color="error">overdue</Tag> since {moment(g.until ?? "")}
      {g.end_problem && `: ${g.end_problem}`}
    </>
  );
}
