import { Tag } from "antd";
import { Link } from "react-router";
import type { Entry } from "../../api/client";
import { useDaybook } from "../../api/queries";
import { moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { PagedTable } from "../../parts/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { StateMark } from "../../parts/StateMark";
import { usePlace } from "../../parts/usePlace";

export default function Daybook() {
  const { get, set } = usePlace();
  const filter = { person: get("person"), subject: get("subject"), action: get("action") };
  const pages = useDaybook(filter);
  const narrow = (field: "person" | "subject" | "action", value: string) => (
    <a href={`?${field}=${encodeURIComponent(value)}`} title={`Only this ${field}`} onClick={(e) => { e.preventDefault(); set(field, value); }}>{value}</a>
  );
  return (
    <>
      <PageHead title="Daybook" note="What was done, by whom, and what came of it. Newest first." />
      <div style={{ margin: "0 0 8px" }}>
        {(["person", "subject", "action"] as const).filter((f) => filter[f]).map((f) => (
          <Tag key={f} closable onClose={() => set(f, undefined)}>{f} {filter[f]}</Tag>
        ))}
      </div>
      <PagedTable<Entry>
        pages={pages} noun="entry" rowKey={(e) => String(e.seq)} empty={<EmptyNote text="No entry fits." />}
        columns={[
          { title: "When", key: "at", render: (_, e) => <span style={{ whiteSpace: "nowrap" }}>{moment(e.at)}</span> },
          { title: "By", key: "person", render: (_, e) => narrow("person", e.person) },
          { title: "Way", dataIndex: "via" },
          { title: "Outcome", key: "outcome", render: (_, e) => <StateMark state={e.outcome} /> },
          { title: "About", key: "subject", render: (_, e) => <span style={{ whiteSpace: "nowrap" }}>{narrow("subject", e.subject)}{place(e)}</span> },
          { title: "What", key: "sentence", render: (_, e) => <span>{e.sentence}{e.why && <em> Why: {e.why}</em>}</span> },
        ]}
      />
    </>
  );
}

function place(e: Entry) {
  const list = { key: "/keys", instance: "/instances" }[e.subject_kind];
  return list && <Link to={`${list}/${encodeURIComponent(e.subject)}`} aria-label={`To ${e.subject}`} style={{ marginInlineStart: 6 }}>→</Link>;
}
