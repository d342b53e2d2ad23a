import { Card, Segmented, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { useHolders, useInstances, useKeys, useLoss, useReachGroups } from "../../api/queries";
import { counted } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { Loading } from "../../parts/Loading";
import { ProblemNote } from "../../parts/ProblemNote";
import { usePlace } from "../../parts/usePlace";
import { InWords } from "../keys/Loss";
import { Graph, type GraphNode } from "./Graph";
import { gridOfGroups, statesOf } from "./grid";

type Kind = "holder" | "key" | "host";

const kinds: { value: Kind; label: string }[] = [
  { value: "holder", label: "Person or team" },
  { value: "key", label: "Key" },
  { value: "host", label: "Jump host" },
];

/** At most so many nodes of a kind are drawn. */
const most = 14;

/** What hangs on one person, one key or one jump host, as a small graph. */
export function Hanging() {
  const { get, set } = usePlace();
  const [kind, ...rest] = (get("of") ?? "holder:").split(":") as [Kind, ...string[]];
  const name = rest.join(":");
  return (
    <>
      <div className="row middle many after-m screen-only">
        <Segmented options={kinds} value={kind} onChange={(k) => set("of", `${k}:`)} />
        <Choose kind={kind} value={name || undefined} choose={(v) => set("of", `${kind}:${v ?? ""}`)} />
      </div>
      {name === "" ? (
        <Card size="small">
          <EmptyNote text="Choose one, and what hangs on it is drawn here." />
        </Card>
      ) : kind === "host" ? (
        <BehindHost name={name} />
      ) : (
        <ByKeys kind={kind} name={name} />
      )}
    </>
  );
}

function Choose({ kind, value, choose }: { kind: Kind; value?: string; choose: (name?: string) => void }) {
  const [q, setQ] = useState("");
  const holders = useHolders();
  const keys = useKeys({ q: q || undefined, own: "false" });
  const instances = useInstances({ q: q || undefined });
  const names = {
    holder: holders.data?.map((h) => h.name),
    key: keys.rows.map((k) => k.name),
    host: instances.rows.map((i) => i.name),
  }[kind];
  return (
    <Select
      key={kind}
      allowClear
      showSearch={kind === "holder" ? true : { filterOption: false, onSearch: setQ }}
      placeholder={kinds.find((k) => k.value === kind)?.label}
      aria-label={kinds.find((k) => k.value === kind)?.label}
      className="field-l"
      value={value}
      onChange={choose}
      options={names?.map((n) => ({ value: n, label: n }))}
    />
  );
}

/** The keys of a holder, or one key, with the logins that they open. */
function ByKeys({ kind, name }: { kind: "holder" | "key"; name: string }) {
  const groups = useReachGroups({ [kind]: name }, true);
  const loss = useLoss({ [kind]: name });
  if (groups.error) return <ProblemNote error={groups.error} />;
  if (!groups.data) return <Loading />;
  const grid = gridOfGroups(groups.data);
  const holder = kind === "holder" ? name : grid.columns.find((c) => c.name === name)?.holder;
  // Of the keys that open the same logins, those alone that are asked for.
  const mine = grid.columns.flatMap((c, place) => {
    const keys = groups.data.columns[place]?.keys ?? [];
    const wanted = keys.filter((k) => (kind === "holder" ? k.holder === name : k.name === name));
    return wanted.map((k) => ({ ...c, ...k, place }));
  });
  const rows = grid.rows.filter((r) => r.cells.some((c) => mine.some((m) => m.place === c.key)));
  const shownKeys = mine.slice(0, most);
  const shownRows = rows.slice(0, most);
  const keyNodes: GraphNode[] = shownKeys.map((k) => ({
    id: `key ${k.name}`,
    text: k.name,
    note: k.state === "active" ? (k.fresh > 0 ? "freshly proved" : "not freshly proved") : k.state,
    to: `/keys/${encodeURIComponent(k.name)}`,
    sha256: k.sha256,
  }));
  const loginNodes: GraphNode[] = shownRows.map((r) => ({
    id: `row ${r.name}`,
    text: r.count > 1 ? `${r.name} +${r.count - 1}` : r.name,
    states: statesOf(r),
    to: `/logins/${encodeURIComponent(r.name)}`,
  }));
  return (
    <Card size="small">
      {mine.length === 0 ? (
        <EmptyNote text="No key of it is in place or granted anywhere." />
      ) : (
        <>
          <Graph
            label={`What hangs on ${name}: ${counted(mine.length, "key")}, ${counted(groups.data.logins, "login")}`}
            layers={[
              [{ id: "root", text: holder ?? "nobody", note: kind === "key" ? "holds it" : undefined }],
              keyNodes,
              loginNodes,
            ]}
            edges={[
              ...keyNodes.map((k) => ({ from: "root", to: k.id, status: "in place" as const })),
              ...shownKeys.flatMap((k) =>
                shownRows.flatMap((r) => {
                  const cell = r.cells.find((c) => c.key === k.place);
                  return cell ? [{ from: `key ${k.name}`, to: `row ${r.name}`, status: cell.status }] : [];
                }),
              ),
            ]}
          />
          <p className="before-s flush-end">
            {(mine.length > most || rows.length > most) && (
              <>
                Drawn are {shownKeys.length} of {counted(mine.length, "key")} and {shownRows.length} of{" "}
                {counted(rows.length, "row")}. <Link to={`/?${kind}=${encodeURIComponent(name)}`}>All its logins</Link>
                .{" "}
              </>
            )}
            {loss.data && loss.data.changes.length > 0 && (
              <>
                If {mine.length > 1 ? "all of them were" : "it were"} lost: <InWords of={loss.data.changes} />
              </>
            )}
          </p>
        </>
      )}
    </Card>
  );
}

/** What is reached by way of a jump host. */
function BehindHost({ name }: { name: string }) {
  const behind = useInstances({ via: name });
  if (behind.error) return <ProblemNote error={behind.error} />;
  if (behind.isPending) return <Loading />;
  const shown = behind.rows.slice(0, most);
  return (
    <Card size="small">
      {shown.length === 0 ? (
        <EmptyNote text={`Nothing is reached by way of ${name}.`} />
      ) : (
        <>
          <Graph
            label={`What hangs on ${name}: ${counted(behind.total, "instance")}`}
            layers={[
              [{ id: "root", text: name, note: "jump host", to: `/instances/${encodeURIComponent(name)}` }],
              shown.map((i) => ({
                id: i.id,
                text: i.name,
                note: i.state,
                to: `/instances/${encodeURIComponent(i.name)}`,
              })),
            ]}
            edges={shown.map((i) => ({ from: "root", to: i.id, status: "in place" as const }))}
          />
          {behind.total > most && (
            <p className="before-s flush-end">
              Drawn are {most} of{" "}
              <Link to={`/instances?via=${encodeURIComponent(name)}`}>{counted(behind.total, "instance")}</Link>.
            </p>
          )}
        </>
      )}
    </Card>
  );
}
