import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { Button, Table, type TableColumnsType } from "antd";
import type { SorterResult } from "antd/es/table/interface";
import { createContext, useContext, useEffect, useLayoutEffect, useRef, useState, type HTMLAttributes, type ReactNode, type TableHTMLAttributes } from "react";
import type { Pages } from "../api/queries";
import { counted } from "../format";
import { ProblemNote } from "./ProblemNote";

interface Props<T> {
  pages: Pages<T>;
  columns: TableColumnsType<T>;
  rowKey: (row: T) => string;
  /** In the singular. */
  noun: string;
  empty: ReactNode;
  sort?: (sort: string | undefined) => void;
  /** Whether long texts wrap; else a wide table scrolls. */
  wraps?: boolean;
  /** Whether cells show nothing but their row, so that one which stays need not be drawn anew as the list is scrolled. */
  plain?: boolean;
}

/** From so many rows on, only those near the window are in the page. */
const many = 120;

/** The rows that are not in the page, above and below those that are: in pixels, and the number of all. */
interface Gap { above: number; below: number; rows: number }

const GapContext = createContext<Gap>({ above: 0, below: 0, rows: 0 });

function Grid(props: TableHTMLAttributes<HTMLTableElement>) {
  const { rows } = useContext(GapContext);
  return <table {...props} aria-rowcount={rows || undefined} />;
}

function Body({ children, ...props }: HTMLAttributes<HTMLTableSectionElement>) {
  const { above, below } = useContext(GapContext);
  return <tbody {...props}>{above > 0 && <Space height={above} />}{children}{below > 0 && <Space height={below} />}</tbody>;
}

const Space = ({ height }: { height: number }) => <tr aria-hidden><td colSpan={99} style={{ height, padding: 0, border: 0 }} /></tr>;

const components = { table: Grid, body: { wrapper: Body } };

/** A list that is read page by page, with its count and its empty state. */
export function PagedTable<T extends object>(props: Props<T>) {
  const { pages } = props;
  if (pages.error && pages.rows.length === 0) return <ProblemNote error={pages.error} again={() => void pages.refetch()} />;
  return (
    <>
      <Rows {...props} />
      {pages.rows.length > 0 && (
        <div style={{ display: "flex", alignItems: "center", gap: 12, padding: "10px 12px" }}>
          <span>{pages.rows.length === pages.total ? counted(pages.total, props.noun) : `${pages.rows.length} of ${counted(pages.total, props.noun)}`}</span>
          {pages.hasNextPage && <Button size="small" loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>Show more</Button>}
        </div>
      )}
    </>
  );
}

/** The rows. Once there are many, the columns keep the widths that the first rows gave them. */
function Rows<T extends object>({ pages, columns, rowKey, empty, sort, wraps, plain }: Props<T>) {
  const box = useRef<HTMLDivElement>(null);
  const [laid, setLaid] = useState<{ widths: number[]; top: number }>();
  const { rows, hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  const long = rows.length > many;
  const windowed = useWindowVirtualizer({ count: long && laid ? rows.length : 0, estimateSize: () => 37, overscan: 8, scrollMargin: laid?.top ?? 0 });
  const near = windowed.getVirtualItems();
  useLayoutEffect(() => {
    const at = box.current;
    if (!at || !long) return;
    const body = at.querySelector("tbody");
    setLaid({
      widths: Array.from(at.querySelectorAll<HTMLElement>("thead th"), (th) => th.offsetWidth),
      top: (body ?? at).getBoundingClientRect().top + window.scrollY,
    });
    const anew = () => setLaid(undefined);
    window.addEventListener("resize", anew);
    return () => window.removeEventListener("resize", anew);
  }, [long, laid === undefined]); // eslint-disable-line react-hooks/exhaustive-deps -- only whether it is there
  const last = near.at(-1)?.index ?? 0;
  useEffect(() => {
    if (long && laid && last > rows.length - 40 && hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [long, laid, last, rows.length, hasNextPage, isFetchingNextPage, fetchNextPage]);
  const some = long && laid;
  const gap: Gap = some && near[0] ? { above: near[0].start - laid.top, below: windowed.getTotalSize() - (near.at(-1)!.end - laid.top), rows: pages.total + 1 } : { above: 0, below: 0, rows: 0 };
  return (
    <div ref={box}>
      <GapContext value={gap}>
        <Table<T>
          size="small" rowKey={rowKey} components={components} dataSource={some ? near.map((n) => rows[n.index]!) : rows.slice(0, many)} loading={pages.isPending} pagination={false}
          columns={some ? columns.map((c, n) => ({ ...c, width: laid.widths[n], ...(plain && { shouldCellUpdate: (row: T, before: T) => row !== before }) })) : columns} tableLayout={some ? "fixed" : undefined}
          scroll={some ? { x: laid.widths.reduce((a, b) => a + b, 0) } : { x: wraps ? 960 : "max-content" }} locale={{ emptyText: empty }} showSorterTooltip={false}
          onRow={some ? (_, n) => ({ ref: windowed.measureElement, "data-index": near[n ?? 0]?.index, "aria-rowindex": (near[n ?? 0]?.index ?? 0) + 2 }) : undefined}
          onChange={(_, __, sorter) => {
            const s = sorter as SorterResult<T>;
            sort?.(s.order ? `${s.order === "descend" ? "-" : ""}${String(s.columnKey)}` : undefined);
          }}
        />
      </GapContext>
    </div>
  );
}

/** The arrow of a column for the order that the list is in. */
export function orderOf(column: string, sort: string | undefined) {
  if (sort === column) return "ascend" as const;
  return sort === `-${column}` ? ("descend" as const) : null;
}
