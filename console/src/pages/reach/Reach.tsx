import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App, Button, Select, Switch, Tag } from "antd";
import { Link } from "react-router";
import { api, take, type LoginReach } from "../../api/client";
import { useHolders, useMe, useReach, useSweep } from "../../api/queries";
import { counted, day, lookOf, reachMeaning, reachOrder, type Tone } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { PagedTable } from "../../parts/list/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { SearchBox } from "../../parts/SearchBox";
import { ProveButton } from "../../parts/Prove";
import { SweepButton } from "../../parts/SweepButton";
import { StateMark } from "../../parts/StateMark";
import { usePlace } from "../../parts/usePlace";
import { LetInButton } from "../logins/LetInButton";
import { Glance } from "./Glance";
import { NextStep } from "../logins/NextStep";
import { ReachTabs } from "./ReachTabs";
import type { Column } from "../../parts/list/column";

/** The first page: how safe each login is, the worst first, each with what to do next. */
export default function Reach() {
  const { get, set } = usePlace();
  const holders = useHolders();
  const values = {
    q: get("q"),
    state: get("state"),
    drift: get("drift"),
    worry: get("worry"),
    region: get("region"),
    label: get("label"),
    holder: get("holder"),
    key: get("key"),
  };
  const may = useMe().data?.role !== "viewer";
  const { pages, first } = useReach(values);
  const counts = first?.counts;
  const all = counts ? Object.values(counts).reduce((a, b) => a + b, 0) : 0;
  return (
    <>
      <PageHead
        title="Reach"
        note={
          counts && (
            <span>
              how safe {counted(all, "login")} {all === 1 ? "is" : "are"}; a proof counts for {first?.fresh_days} days
            </span>
          )
        }
      >
        <SweepAll />
      </PageHead>
      <ReachTabs />
      <Glance worrying={first?.worrying ?? 0} />
      {counts && (
        <Counts
          counts={counts}
          drifting={first?.drifting ?? 0}
          state={values.state}
          drift={values.drift === "true"}
          set={set}
        />
      )}
      <div className="before-l" />
      <PagedTable
        filters={
          <>
            <SearchBox value={values.q ?? ""} change={(v) => set("q", v)} hint="Login" />
            <Select
              allowClear
              showSearch
              placeholder="Holder"
              aria-label="Holder"
              className="field-m"
              value={values.holder}
              onChange={(v) => set("holder", v)}
              options={holders.data?.map((k) => ({ value: k.name, label: k.name }))}
            />
            {(["region", "label", "key"] as const).map(
              (f) =>
                values[f] && (
                  <Tag key={f} closable onClose={() => set(f, undefined)}>
                    {f} {values[f]}
                  </Tag>
                ),
            )}
            <label className="inline middle">
              <Switch
                size="small"
                checked={values.drift === "true"}
                onChange={(on) => set("drift", on ? "true" : undefined)}
              />{" "}
              only with drift
            </label>
            <label className="inline middle">
              <Switch
                size="small"
                checked={values.worry === "true"}
                onChange={(on) => set("worry", on ? "true" : undefined)}
              />{" "}
              only with a bad way back
            </label>
          </>
        }
        acts={may ? (rows) => <Together of={rows} /> : undefined}
        nameOf={(l) => l.login}
        pages={pages}
        noun="login"
        rowKey={(l) => l.login}
        columns={values.worry === "true" ? worryColumns : columns}
        empty={<EmptyNote text="No login matches." />}
      />
    </>
  );
}

function Counts({
  counts,
  drifting,
  state,
  drift,
  set,
}: {
  counts: Record<string, number>;
  drifting: number;
  state?: string;
  drift: boolean;
  set: (name: string, value?: string) => void;
}) {
  const tile = (
    key: string,
    chosen: boolean,
    n: number,
    word: string,
    meaning: string,
    tone: Tone,
    sign: string,
    go: () => void,
  ) => (
    <button key={key} type="button" aria-pressed={chosen} onClick={go} className="tile">
      <div className="row baseline">
        <span className="figure large">{n}</span>
        <span className={`strong ${tone}`}>
          <span aria-hidden>{sign}</span> {word}
        </span>
      </div>
      <div className="small quiet">{meaning}</div>
    </button>
  );
  return (
    <div className="columns tiles gap-m">
      {reachOrder.map((s) =>
        tile(s, state === s, counts[s] ?? 0, s, reachMeaning[s], lookOf(s).tone, lookOf(s).sign, () =>
          set("state", state === s ? undefined : s),
        ),
      )}
      {tile("drift", drift, drifting, "with drift", "the keys in place differ from the grants", "warn", "◆", () =>
        set("drift", drift ? undefined : "true"),
      )}
    </div>
  );
}

const columns: Column<LoginReach>[] = [
  {
    title: "Login",
    key: "login",
    text: (l) => l.login,
    render: (l) => <Link to={`/logins/${encodeURIComponent(l.login)}`}>{l.login}</Link>,
  },
  { title: "Reach", key: "reach", text: (l) => l.reach, render: (l) => <StateMark state={l.reach} /> },
  {
    title: "Region",
    key: "region",
    text: (l) => l.region,
    render: (l) => l.region && <Link to={`/?region=${encodeURIComponent(l.region)}`}>{l.region}</Link>,
  },
  { title: "Swept", key: "swept", text: (l) => (l.swept_at ? day(l.swept_at) : "never") },
  {
    title: "Why",
    key: "why",
    text: (l) => l.why,
    render: (l) => <span className="block-text">{l.why}</span>,
  },
  { title: "What to do next", key: "next", render: (l) => <NextStep of={l} /> },
];

const worryColumns: Column<LoginReach>[] = [
  ...columns.slice(0, 3),
  {
    title: "What is bad about the best way back in",
    key: "worry",
    text: (l) => l.worry,
    render: (l) => <span className="block-text wide">{l.worry}</span>,
  },
  {
    title: "Actions",
    unseen: true,
    key: "do",
    render: (l) => (
      <Link to={`/logins/${encodeURIComponent(l.login)}/routes?rehearse=true`}>Rehearse the ways back</Link>
    ),
  },
];

/** What can be done with several logins at once. */
function Together({ of: rows }: { of: LoginReach[] }) {
  const instances = [...new Set(rows.map((l) => l.instance))];
  return (
    <>
      <SweepButton instances={instances} text="Sweep them" />
      <LetInButton logins={rows.map((l) => l.login)} text="Let a key in to them" />
      <ProveButton text="Prove your keys" />
    </>
  );
}

function SweepAll() {
  const me = useMe();
  const { message } = App.useApp();
  const queries = useQueryClient();
  const begin = useMutation({
    mutationFn: () => take(api.POST("/sweeps", { body: { all: true } })),
    onError: (e) => void message.error(e.message),
  });
  const sweep = useSweep(begin.data?.id, () => void queries.invalidateQueries({ queryKey: ["reach"] }));
  const live = begin.isPending || (sweep && !sweep.ended_at);
  if (!me.data || me.data.role === "viewer") return null;
  return (
    <div className="row gap-m middle" aria-live="polite">
      {sweep && (
        <span>
          {sweep.ended_at
            ? `Swept: ${sweep.as_before} as before, ${sweep.changed} changed, ${sweep.failed} could not be read`
            : `${sweep.total - sweep.waiting} of ${sweep.total} read`}
        </span>
      )}
      <Button type="primary" loading={Boolean(live)} onClick={() => begin.mutate()}>
        Sweep all
      </Button>
    </div>
  );
}
