import { Alert, Card, Select } from "antd";
import { Link } from "react-router";
import type { ProofDue } from "../../api/client";
import { useAskedKeys, useHolders, useProofsDue } from "../../api/queries";
import { counted, day } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { KeyName } from "../../parts/KeyName";
import { PagedTable } from "../../parts/list/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { StateMark } from "../../parts/StateMark";
import { usePlace } from "../../parts/usePlace";
import { ProveButton } from "../../parts/Prove";
import { ReachTabs } from "./ReachTabs";
import type { Column } from "../../parts/list/column";

/** What each person has to prove today. */
export default function ToProve() {
  const { get, set } = usePlace();
  const holders = useHolders();
  const holder = get("holder");
  const pages = useProofsDue(holder);
  const asked = useAskedKeys(holder);
  return (
    <>
      <PageHead
        title="To prove"
        note="keys that open logins, and whose holder has not lately shown that they still hold them"
      />
      <ReachTabs />
      <div className="row gap-l middle many after-m">
        <Select
          allowClear
          placeholder="Everybody"
          aria-label="Holder"
          className="field-m"
          value={holder}
          onChange={(v) => set("holder", v)}
          options={[
            { value: "me", label: "me" },
            ...(holders.data ?? []).map((k) => ({ value: k.name, label: k.name })),
          ]}
        />
        <ProveButton text="Prove what you hold" />
      </div>
      {asked.data?.map((k) => (
        <Alert
          key={k.id}
          type="info"
          showIcon
          className="after-s"
          title={
            <>
              {`${k.holder} is asked to bring a new public key that follows ${k.follows}, `}
              {`for ${counted(k.logins, "login")}. `}
              <Link to="/rotations/asked">Bring it</Link>
            </>
          }
        />
      ))}
      <Card size="small" styles={{ body: { padding: 0 } }}>
        <PagedTable<ProofDue>
          pages={pages}
          noun="key"
          rowKey={(d) => d.key.name}
          columns={columns}
          empty={<EmptyNote text={holder ? "Nothing to prove here." : "Nobody has anything to prove."} />}
        />
      </Card>
    </>
  );
}

const columns: Column<ProofDue>[] = [
  {
    title: "Holder",
    key: "holder",
    text: (d) => d.key.holder,
    render: (d) => (
      <>
        {d.key.holder}
        {d.holder_title && d.holder_title !== d.key.holder && <span className="faint">, {d.holder_title}</span>}
      </>
    ),
  },
  {
    title: "Key",
    key: "key",
    text: (d) => d.key.name,
    render: (d) => <KeyName name={d.key.name} sha256={d.key.sha256} />,
  },
  { title: "Opens", key: "logins", align: "right", text: (d) => counted(d.logins, "login") },
  { title: "Last proved", key: "proved", text: (d) => (d.proved_at ? day(d.proved_at) : "never") },
  { title: "State", key: "state", text: (d) => d.state, render: (d) => <StateMark state={d.state} /> },
  { title: "Stale since, or from", key: "stale", text: (d) => d.stale_at && day(d.stale_at) },
  {
    title: "What to do",
    key: "next",
    render: (d) => <ProveButton of={d.key.name} small />,
  },
];
