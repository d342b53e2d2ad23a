import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { Checkbox, Spin } from "antd";
import { memo, useEffect, useLayoutEffect, useRef, useState, type ReactNode } from "react";
import type { Pages } from "../../api/queries";
import { plural } from "../../format";
import type { Column } from "./column";

/** Which rows are chosen, by their keys. */
export interface Choice<T> {
  chosen: ReadonlyMap<string, T>;
  choose: (rows: ReadonlyMap<string, T>) => void;
  nameOf: (row: T) => string;
}

interface Props<T> {
  pages: Pages<T>;
  columns: Column<T>[];
  rowKey: (row: T) => string;
  noun: string;
  empty: ReactNode;
  order?: string;
  sort?: (order: string | undefined) => void;
  wraps?: boolean;
  choice?: Choice<T>;
}

/** So many rows come into the page, and leave it, together. */
const block = 12;
/** From so many rows on, only those near the window are in the page. */
const many = 10 * block;

/** The rows. Once there are many, the columns keep the widths that the first rows gave them. */
export function Rows<T extends object>({ pages, columns, rowKey, noun, empty, order, sort, wraps, choice }: Props<T>) {
  const box = useRef<HTMLDivElement>(null);
  const [laid, setLaid] = useState<{ widths: number[]; top: number }>();
  /** Whether the table is no wider than the page; unknown after that has another width. */
  const [fits, setFits] = useState<boolean>();
  const last = useRef(-1);
  const { rows, total, isPending, hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  const long = rows.length > many;
  const windowed = useWindowVirtualizer({
    count: long && laid ? Math.ceil(rows.length / block) : 0,
    estimateSize: () => 37 * block,
    overscan: 1,
    scrollMargin: laid?.top ?? 0,
    useFlushSync: false,
  });
  useLayoutEffect(() => {
    const at = box.current;
    if (!at || !long || laid) return;
    setLaid({
      widths: Array.from(at.querySelectorAll("thead th"), (th) => th.getBoundingClientRect().width),
      top: (at.querySelector("tbody") ?? at).getBoundingClientRect().top + window.scrollY,
    });
  }, [long, laid]);
  useLayoutEffect(() => {
    const table = box.current?.querySelector("table");
    if (table) setFits(table.offsetWidth <= (box.current?.offsetWidth ?? 0));
  }, [rows.length, laid, fits === undefined]); // eslint-disable-line react-hooks/exhaustive-deps -- until it is known
  useEffect(() => {
    const again = () => {
      setLaid(undefined);
      setFits(undefined);
    };
    window.addEventListener("resize", again);
    return () => window.removeEventListener("resize", again);
  }, []);
  const near = windowed.getVirtualItems();
  const some = long && laid && near.length > 0 ? laid : undefined;
  const end = some ? ((near.at(-1)?.index ?? 0) + 1) * block : 0;
  useEffect(() => {
    if (some && end > rows.length - 40 && hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [some, end, rows.length, hasNextPage, isFetchingNextPage, fetchNextPage]);

  const choose = (index: number, on: boolean, through: boolean) => {
    if (!choice) return;
    const next = new Map(choice.chosen);
    const from = through && last.current >= 0 ? last.current : index;
    for (const row of rows.slice(Math.min(from, index), Math.max(from, index) + 1)) {
      if (on) next.set(rowKey(row), row);
      else next.delete(rowKey(row));
    }
    last.current = index;
    choice.choose(next);
  };
  // One function for all rows, so that those which stay are not drawn again.
  const latest = useRef(choose);
  useLayoutEffect(() => {
    latest.current = choose;
  });
  const [pick] = useState(() => (index: number, on: boolean, through: boolean) => latest.current(index, on, through));
  const draw = (row: T, index: number) => {
    const key = rowKey(row);
    return (
      <Row<T>
        key={key}
        row={row}
        id={key}
        index={index}
        columns={columns}
        name={choice?.nameOf(row)}
        chosen={choice?.chosen.has(key)}
        pick={choice && pick}
      />
    );
  };
  const width = columns.length + (choice ? 1 : 0);
  const above = some ? (near[0]?.start ?? some.top) - some.top : 0;
  const below = some ? windowed.getTotalSize() - ((near.at(-1)?.end ?? some.top) - some.top) : 0;
  return (
    <div
      ref={box}
      className={fits ? "rows-box" : "rows-box scrolls"}
      // One that scrolls to the side does so by keyboard as well.
      tabIndex={fits === false ? 0 : undefined}
      role={fits === false ? "region" : undefined}
      aria-label={fits === false ? `List of ${plural(noun)}, which scrolls to the side` : undefined}
    >
      <table
        className={wraps ? "rows wrapping" : "rows"}
        aria-rowcount={some ? total + 1 : undefined}
        style={some && { tableLayout: "fixed", width: fits ? undefined : some.widths.reduce((a, b) => a + b, 0) }}
      >
        {some && (
          <colgroup>
            {some.widths.map((w, n) => (
              <col key={n} style={{ width: w }} />
            ))}
          </colgroup>
        )}
        <thead>
          <tr>
            {choice && <ChooseAll rows={rows} rowKey={rowKey} choice={choice} />}
            {columns.map((c) => (
              <Head key={c.key} of={c} order={order} sort={sort} />
            ))}
          </tr>
        </thead>
        {above > 0 && <Space height={above} width={width} />}
        {some ? (
          near.map((b) => (
            <tbody key={b.index} ref={windowed.measureElement} data-index={b.index}>
              {rows.slice(b.index * block, (b.index + 1) * block).map((row, n) => draw(row, b.index * block + n))}
            </tbody>
          ))
        ) : (
          <tbody>{rows.slice(0, many).map(draw)}</tbody>
        )}
        {below > 0 && <Space height={below} width={width} />}
        {rows.length === 0 && (
          <tbody>
            <tr>
              <td colSpan={width} className="rows-empty">
                {isPending ? <Spin /> : empty}
              </td>
            </tr>
          </tbody>
        )}
      </table>
    </div>
  );
}

/** Takes the place of rows that are not in the page. */
const Space = ({ height, width }: { height: number; width: number }) => (
  <tbody aria-hidden>
    <tr>
      <td colSpan={width} className="gap-row" style={{ height }} />
    </tr>
  </tbody>
);

function Head<T>({ of: c, order, sort }: { of: Column<T>; order?: string; sort?: Props<T>["sort"] }) {
  const now = order === c.key ? "ascending" : order === `-${c.key}` ? "descending" : undefined;
  const next = { none: c.key, ascending: `-${c.key}`, descending: undefined }[now ?? "none"];
  return (
    <th scope="col" className={c.align === "right" ? "to-end" : undefined} aria-sort={now}>
      {c.sorts && sort ? (
        <button type="button" className="sorter" onClick={() => sort(next)}>
          {c.title} <span aria-hidden>{now === "ascending" ? "▲" : now === "descending" ? "▼" : "↕"}</span>
        </button>
      ) : (
        <span className={c.unseen ? "unseen" : undefined}>{c.title}</span>
      )}
    </th>
  );
}

function ChooseAll<T>({ rows, rowKey, choice }: { rows: T[]; rowKey: (row: T) => string; choice: Choice<T> }) {
  const n = rows.filter((r) => choice.chosen.has(rowKey(r))).length;
  return (
    <th scope="col" className="choice-cell">
      <Checkbox
        aria-label="All that are shown"
        checked={n > 0 && n === rows.length}
        indeterminate={n > 0 && n < rows.length}
        onChange={(e) => choice.choose(new Map(e.target.checked ? rows.map((r) => [rowKey(r), r]) : []))}
      />
    </th>
  );
}

interface RowProps<T> {
  row: T;
  id: string;
  index: number;
  columns: Column<T>[];
  name?: string;
  chosen?: boolean;
  pick?: (index: number, on: boolean, through: boolean) => void;
}

const Row = memo(function Row<T>({ row, id, index, columns, name, chosen, pick }: RowProps<T>) {
  return (
    <tr data-row-key={id} aria-rowindex={index + 2} className={chosen ? "chosen" : undefined}>
      {pick && (
        <td className="choice-cell">
          <input
            type="checkbox"
            aria-label={`Choose ${name ?? id}`}
            checked={chosen ?? false}
            onChange={(e) => pick(index, e.target.checked, (e.nativeEvent as MouseEvent).shiftKey)}
          />
        </td>
      )}
      {columns.map((c) => (
        <td key={c.key} className={c.align === "right" ? "to-end" : undefined}>
          {c.render ? c.render(row) : c.text?.(row)}
        </td>
      ))}
    </tr>
  );
}) as <T>(props: RowProps<T> & { key?: string }) => ReactNode;
