import { Button, Card, Timeline as Line } from "antd";
import type { Entry, FileVersion } from "../../api/client";
import { useDaybook, useVersions } from "../../api/queries";
import { moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { ProblemNote } from "../../parts/ProblemNote";

interface Point {
  at: string;
  key: string;
  entry?: Entry;
  version?: FileVersion;
}

/** What has happened to a machine, as one line of time: what was done to it, and readings that found something else. */
export function Timeline({ of: instance, login }: { of: string; login: string }) {
  const told = useDaybook({ instance });
  const read = useVersions(login);
  const points: Point[] = told.rows.map((e) => ({ at: e.at, key: `e${e.seq}`, entry: e }));
  const from = told.hasNextPage ? (told.rows.at(-1)?.at ?? "") : "";
  for (const v of read.data ?? []) {
    if (v.seen_at >= from && (v.came?.length ?? 0) + (v.went?.length ?? 0) > 0)
      points.push({ at: v.seen_at, key: v.id, version: v });
  }
  points.sort((a, b) => (a.at < b.at ? 1 : -1));
  return (
    <Card size="small" title="What has happened to it" className="before-l">
      {told.error && <ProblemNote error={told.error} again={() => void told.refetch()} />}
      {!told.isPending && points.length === 0 && <EmptyNote text="Nothing is written down of it yet." />}
      <Line
        items={points.map((p) => ({
          key: p.key,
          color: p.version ? "gray" : p.entry?.outcome === "done" ? undefined : "red",
          content: <OnePoint of={p} />,
        }))}
      />
      {told.hasNextPage && (
        <Button size="small" loading={told.isFetchingNextPage} onClick={() => void told.fetchNextPage()}>
          Show earlier
        </Button>
      )}
    </Card>
  );
}

function OnePoint({ of: p }: { of: Point }) {
  return (
    <div>
      <span className="quiet nowrap">{moment(p.at)}</span>{" "}
      {p.version ? (
        <>
          A reading found {p.version.came?.length ?? 0} lines new and {p.version.went?.length ?? 0} gone in{" "}
          {p.version.path} ({p.version.method}).
        </>
      ) : (
        <>
          {p.entry?.sentence} {p.entry?.why && <span className="quiet">Why: {p.entry.why}</span>}
        </>
      )}
    </div>
  );
}
