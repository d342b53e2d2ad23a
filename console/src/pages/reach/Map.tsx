import { Button, Card, Input, Segmented, Select, Tag } from "antd";
import { useClouds, useHolders, useReachGroups, useReachMap } from "../../api/queries";
import { counted, reachOrder } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { Loading } from "../../parts/Loading";
import { PageHead } from "../../parts/PageHead";
import { Paper } from "../../parts/Paper";
import { ProblemNote } from "../../parts/ProblemNote";
import { SearchBox } from "../../parts/SearchBox";
import { Toggle } from "../../parts/Toggle";
import { usePlace } from "../../parts/usePlace";
import { Grid } from "./Grid";
import { gridOfGroups, gridOfMap } from "./grid";
import { Hanging } from "./Hanging";
import { ReachTabs } from "./ReachTabs";

const views = [
  { value: "together", label: "What is alike together" },
  { value: "each", label: "Each login" },
  { value: "hanging", label: "One person, key or jump host" },
];

/** Logins against keys: which key is in place where, or should be; or what hangs on one person, key or jump host. */
export default function MapPage() {
  const { get, set } = usePlace();
  const view = get("view") ?? "together";
  return (
    <>
      <PageHead title="Reach map" note="which key is in place where, or should be">
        <Button className="screen-only" onClick={() => window.print()}>
          Print
        </Button>
      </PageHead>
      <Paper />
      <ReachTabs />
      <Segmented
        options={views}
        value={view}
        onChange={(v) => set("view", v === "together" ? undefined : v)}
        className="after-m screen-only"
      />
      {view === "hanging" ? <Hanging /> : <Drawn each={view === "each"} />}
    </>
  );
}

/** Narrows the map to instances with a label. */
function LabelFilter({ label, set }: { label?: string; set: (v: string | undefined) => void }) {
  return (
    <Input
      allowClear={{ clearIcon: <span aria-label="Clear">✕</span> }}
      aria-label="Label"
      placeholder="Label, as team=atlas"
      className="field-m"
      defaultValue={label}
      onChange={(e) => e.target.value === "" && set(undefined)}
      onPressEnter={(e) => set(e.currentTarget.value.trim() || undefined)}
      onBlur={(e) => set(e.target.value.trim() || undefined)}
    />
  );
}

function Drawn({ each }: { each: boolean }) {
  const { get, set } = usePlace();
  const holders = useHolders();
  const regions = [...new Set(useClouds().data?.flatMap((c) => c.zones.map((z) => z.region)) ?? [])];
  const f = {
    q: get("q"),
    state: get("state"),
    drift: get("drift"),
    region: get("region"),
    label: get("label"),
    holder: get("holder"),
    key: get("key"),
  };
  const groups = useReachGroups(f, !each);
  const map = useReachMap(f, each);
  const read = each ? map : groups;
  const grid = each ? map.data && gridOfMap(map.data) : groups.data && gridOfGroups(groups.data);
  const logins = each ? map.data?.total : groups.data?.logins;
  const all = each ? map.data?.total : groups.data?.total;
  const rows = grid?.rows.length ?? 0;
  const fitting = rows <= 60 ? 2 : rows <= 200 ? 1 : 0;
  const size = Math.max(0, Math.min(2, Number(get("size") ?? fitting))) as 0 | 1 | 2;
  const resize = (by: number) => set("size", String(size + by));
  return (
    <>
      <div className="row middle many after-m screen-only">
        <SearchBox value={f.q ?? ""} change={(v) => set("q", v)} hint="Login" />
        <Select
          allowClear
          placeholder="Reach"
          aria-label="Reach"
          className="field-s"
          value={f.state}
          onChange={(v) => set("state", v)}
          options={reachOrder.map((s) => ({ value: s, label: s }))}
        />
        <Select
          allowClear
          placeholder="Region"
          aria-label="Region"
          className="field-s"
          value={f.region}
          onChange={(v) => set("region", v)}
          options={regions.map((r) => ({ value: r, label: r }))}
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
        <LabelFilter key={f.label} label={f.label} set={(v) => set("label", v)} />
        {f.key && (
          <Tag closable onClose={() => set("key", undefined)}>
            key {f.key}
          </Tag>
        )}
        <Toggle on={f.drift === "true"} change={(to) => set("drift", to)}>
          only with drift
        </Toggle>
        <span className="inline push">
          <Button aria-label="Smaller" disabled={size === 0} onClick={() => resize(-1)}>
            −
          </Button>
          <Button aria-label="Larger" disabled={size === 2} onClick={() => resize(1)}>
            +
          </Button>
        </span>
      </div>
      {read.error ? (
        <ProblemNote error={read.error} again={() => void read.refetch()} />
      ) : !grid ? (
        <Loading />
      ) : rows === 0 ? (
        <Card size="small">
          <EmptyNote text="No login matches." />
        </Card>
      ) : (
        <Card size="small" styles={{ body: { padding: 12 } }}>
          <Grid
            of={grid}
            size={size}
            label={`${counted(logins ?? 0, "login")} against ${counted(grid.columns.length, "column")} of keys`}
          />
          <div className="small quiet before-s">
            {counted(logins ?? 0, "login")}
            {!each && `, in ${counted(all ?? 0, "row")} of the same keys`}.{" "}
            {rows < (all ?? 0) && `The first ${rows} rows are drawn; narrow them by region, label or holder. `}
            {counted(
              grid.columns.reduce((sum, c) => sum + c.count, 0),
              "key",
            )}
            . Steward keys are not drawn.{" "}
            <span className="screen-only">A click opens a row, and so do the arrows and Enter.</span>
          </div>
        </Card>
      )}
    </>
  );
}
