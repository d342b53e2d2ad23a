import type { KeyState, ReachGroups, ReachMap, ReachState, Status } from "../../api/client";
import { reachOrder } from "../../format";

/** What a map draws: rows of logins against columns of keys. */
export interface Grid {
  rows: GridRow[];
  columns: GridColumn[];
}

export interface GridRow {
  /** Of a row of several logins, by which they are read. */
  id?: string;
  name: string;
  count: number;
  counts: Partial<Record<ReachState, number>>;
  strangers: number;
  cells: { key: number; status: Status }[];
}

export interface GridColumn {
  name: string;
  count: number;
  sha256: string;
  holder?: string;
  state: KeyState;
  /** How many of its keys are freshly proved. */
  fresh: number;
  logins: number;
}

/** Logins with the same keys as one row, keys with the same logins as one column. */
export const gridOfGroups = (g: ReachGroups): Grid => ({
  rows: g.rows.map((r) => ({
    id: r.count > 1 ? r.id : undefined,
    name: r.names[0] ?? "",
    count: r.count,
    counts: r.counts,
    strangers: r.strangers,
    cells: r.cells,
  })),
  columns: g.columns.flatMap((c) => {
    const first = c.keys[0];
    return first ? [{ ...first, count: c.count, fresh: c.fresh, logins: c.logins }] : [];
  }),
});

/** Each login, and each key, by itself. */
export const gridOfMap = (m: ReachMap): Grid => ({
  rows: m.logins.map((l) => ({
    name: l.login,
    count: 1,
    counts: { [l.reach]: 1 },
    strangers: l.strangers,
    cells: l.cells,
  })),
  columns: m.keys.map((k) => ({ ...k, count: 1, fresh: k.fresh ? 1 : 0 })),
});

/** The states that logins of a row have, the worst first, with how many. */
export const statesOf = (r: GridRow) =>
  reachOrder.flatMap((state) => (r.counts[state] ? [{ state, count: r.counts[state] }] : []));
