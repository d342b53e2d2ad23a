import { Button, Card, Segmented, Table, type TableColumnsType } from "antd";
import { Link } from "react-router";
import type { DueRotation } from "../../api/client";
import { useDueRotations } from "../../api/queries";
import { counted, day, monthDays, weekdays } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { Loading } from "../../parts/Loading";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { usePlace } from "../../parts/usePlace";
import { RotationTabs } from "./RotationTabs";

const spans = { "30": "30 days", "90": "90 days", "366": "a year" } as const;

/** What the rotation rules will replace, day by day. */
export default function CalendarPage() {
  const { get, set } = usePlace();
  const days = get("days") ?? "30";
  const due = useDueRotations(Number(days));
  const chosen = get("day");
  const rows = due.data ?? [];
  const byDay = new Map<string, DueRotation[]>();
  rows.forEach((d) => byDay.set(day(d.at), [...(byDay.get(day(d.at)) ?? []), d]));
  const cannot = rows.filter((d) => d.cannot).length;
  return (
    <>
      <PageHead
        title="Calendar"
        note={
          due.data &&
          `${counted(rows.length, "key line")} due within ` +
            (spans[days as keyof typeof spans] ?? counted(Number(days), "day")) +
            (cannot ? `, ${cannot} of them cannot be done` : "")
        }
      >
        <Segmented
          value={days}
          onChange={(v) => set("days", v === "30" ? undefined : v)}
          options={Object.entries(spans).map(([value, label]) => ({ value, label }))}
        />
      </PageHead>
      <RotationTabs />
      {due.error && <ProblemNote error={due.error} again={() => void due.refetch()} />}
      {due.isPending && <Loading />}
      {due.data && (
        <Months
          days={Number(days)}
          byDay={byDay}
          chosen={chosen}
          choose={(d) => set("day", d === chosen ? undefined : d)}
        />
      )}
      {due.data && (
        <Card
          size="small"
          title={
            chosen ? (
              <>
                Due on {chosen}{" "}
                <Button type="link" size="small" onClick={() => set("day", undefined)}>
                  all days
                </Button>
              </>
            ) : (
              "All that is due"
            )
          }
          styles={{ body: { padding: 0 } }}
        >
          <Table<DueRotation>
            size="small"
            rowKey={(d) => `${d.login} ${d.old}`}
            dataSource={chosen ? (byDay.get(chosen) ?? []) : rows}
            columns={columns}
            pagination={rows.length > 20 ? { pageSize: 20, showSizeChanger: false } : false}
            locale={{
              emptyText: (
                <EmptyNote text="Nothing is due by a rotation rule.">
                  <Link to="/rotations/rules">See the rules</Link>
                </EmptyNote>
              ),
            }}
          />
        </Card>
      )}
    </>
  );
}

const columns: TableColumnsType<DueRotation> = [
  { title: "Due", key: "at", render: (_, d) => <span className="nowrap">{day(d.at)}</span> },
  { title: "Rule", dataIndex: "rule" },
  {
    title: "Login",
    key: "login",
    render: (_, d) => (
      <Link to={`/logins/${encodeURIComponent(d.login)}`} className="nowrap">
        {d.login}
      </Link>
    ),
  },
  {
    title: "Key",
    key: "old",
    render: (_, d) => (
      <Link to={`/keys/${encodeURIComponent(d.old)}`} className="nowrap">
        {d.old}
      </Link>
    ),
  },
  { title: "Holder", key: "holder", render: (_, d) => d.holder ?? "nobody" },
  { title: "New key", key: "new", render: (_, d) => <span className="nowrap">{d.new}</span> },
  {
    title: "Cannot be done",
    key: "cannot",
    render: (_, d) => d.cannot && <span className="wraps">✕ {d.cannot}</span>,
  },
];

/** The weeks from today on, each day with how much is due. */
function Months({
  days,
  byDay,
  chosen,
  choose,
}: {
  days: number;
  byDay: Map<string, DueRotation[]>;
  chosen?: string;
  choose: (d: string) => void;
}) {
  return (
    <div className="columns months after-l">
      {monthDays(new Date(), days).map(({ title, blanks, dates }) => (
        <Card key={title} size="small" title={title}>
          <div role="group" aria-label={title} className="columns seven gap-xs">
            {weekdays.map((w) => (
              <div key={w} className="small quiet centred">
                {w}
              </div>
            ))}
            {Array.from({ length: blanks }, (_, n) => (
              <div key={`blank ${n}`} />
            ))}
            {dates.map((d) => {
              const name = day(d.toISOString());
              const due = byDay.get(name) ?? [];
              const bad = due.filter((x) => x.cannot).length;
              return (
                <button
                  key={name}
                  type="button"
                  disabled={due.length === 0}
                  aria-pressed={chosen === name}
                  aria-label={`${name}: ${counted(due.length, "key line")} due${bad ? `, ${bad} cannot be done` : ""}`}
                  onClick={() => choose(name)}
                  className="day"
                >
                  <div className="small">{d.getDate()}</div>
                  {due.length > 0 && (
                    <div className="strong">
                      {due.length}
                      {bad > 0 && <span className="bad plain"> ✕{bad}</span>}
                    </div>
                  )}
                </button>
              );
            })}
          </div>
        </Card>
      ))}
    </div>
  );
}
