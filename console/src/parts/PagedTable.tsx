import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { Button, Table, type TableColumnsType } from "antd";
import type { SorterResult } from "antd/es/table/interface";
import {
  createContext,
  useContext,
  useEffect,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
  type HTMLAttributes,
  type ReactNode,
  type TableHTMLAttributes,
  type ThHTMLAttributes,
} from "react";
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
  /**
   * Whether cells show nothing but their row, so that one which stays need not be drawn again as the list is
   * scrolled.
   */
  plain?: boolean;
}

/** From so many rows on, only those near the window are in the page. */
const many = 120;

/** The rows that are not in the page, above and below those that are: in pixels, and the number of all. */
interface Gap {
  above: number;
  below: number;
  rows: number;
}

const noGap: Gap = { above: 0, below: 0, rows: 0 };

const GapContext = createContext<Gap>(noGap);

function Grid(props: TableHTMLAttributes<HTMLTableElement>) {
  const { rows } = useContext(GapContext);
  return <table {...props} aria-rowcount={rows || undefined} />;
}

function Body({ children, ...props }: HTMLAttributes<HTMLTableSectionElement>) {
  const { above, below } = useContext(GapContext);
  return (
    <tbody {...props}>
      {above > 0 && <Space height={above} />}
      {children}
      {below > 0 && <Space height={below} />}
    </tbody>
  );
}

const Space = ({ height }: { height: number }) => (
  <tr aria-hidden>
    <td colSpan={99} className="gap-row" style={{ height }} />
  </tr>
);

/** A column's head, which stays in sight under the head of the page. */
const Head = (props: ThHTMLAttributes<HTMLTableCellElement>) => (
  <th {...props} className={`${props.className ?? ""} row-head`} />
);

const components = { table: Grid, body: { wrapper: Body } };
/** For a table that is no wider than the page: one that scrolls to the side holds its heads within. */
const withHeads = { ...components, header: { cell: Head } };

/** A list that is read page by page, with its count and its empty state. */
export function PagedTable<T extends object>(props: Props<T>) {
  const { pages } = props;
  if (pages.error && pages.rows.length === 0)
    return <ProblemNote error={pages.error} again={() => void pages.refetch()} />;
  return (
    <>
      <Rows {...props} />
      {pages.rows.length > 0 && (
        <div className="row gap-m middle padded-s">
          <span>
            {pages.rows.length === pages.total
              ? counted(pages.total, props.noun)
              : `${pages.rows.length} of ${counted(pages.total, props.noun)}`}
          </span>
          {pages.hasNextPage && (
            <Button size="small" loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
              Show more
            </Button>
          )}
        </div>
      )}
    </>
  );
}

/** So many rows come into the page, and leave it, together. */
const step = 12;

/** The rows. Once there are many, the columns keep the widths that the first rows gave them. */
function Rows<T extends object>({ pages, columns, rowKey, empty, sort, wraps, plain }: Props<T>) {
  const box = useRef<HTMLDivElement>(null);
  const [laid, setLaid] = useState<{ widths: number[]; top: number }>();
  /** Whether the table is no wider than the page; unknown after that has another width. */
  const [fits, setFits] = useState<boolean>();
  const { rows, total, isPending, hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  const long = rows.length > many;
  const windowed = useWindowVirtualizer({
    count: long && laid ? rows.length : 0,
    estimateSize: () => 37,
    overscan: 6,
    scrollMargin: laid?.top ?? 0,
  });
  useLayoutEffect(() => {
    const at = box.current;
    if (!at || !long) return;
    const body = at.querySelector("tbody");
    setLaid({
      widths: Array.from(at.querySelectorAll("thead th"), (th) => th.getBoundingClientRect().width),
      top: (body ?? at).getBoundingClientRect().top + window.scrollY,
    });
  }, [long, laid === undefined]); // eslint-disable-line react-hooks/exhaustive-deps -- only whether it is there
  useLayoutEffect(() => {
    const table = box.current?.querySelector("table");
    if (table) setFits(table.offsetWidth <= (box.current?.offsetWidth ?? 0));
    // One that scrolls to the side does so by keyboard as well.
    box.current?.querySelector(".ant-table-content")?.setAttribute("tabindex", "0");
  }, [rows, laid, fits === undefined]); // eslint-disable-line react-hooks/exhaustive-deps -- only whether it is known
  useEffect(() => {
    const again = () => {
      setLaid(undefined);
      setFits(undefined);
    };
    window.addEventListener("resize", again);
    return () => window.removeEventListener("resize", again);
  }, []);
  const near = windowed.getVirtualItems();
  const first = Math.floor((near[0]?.index ?? 0) / step) * step;
  const end = Math.min(rows.length, Math.ceil(((near.at(-1)?.index ?? -1) + 1) / step) * step);
  useEffect(() => {
    if (long && laid && end > rows.length - 40 && hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [long, laid, end, rows.length, hasNextPage, isFetchingNextPage, fetchNextPage]);
  const at = (index: number) => windowed.measurementsCache[index];
  const some = long && laid && near.length > 0 ? laid : undefined;
  const gap: Gap = some
    ? {
        above: (at(first)?.start ?? some.top) - some.top,
        below: windowed.getTotalSize() - ((at(end - 1)?.end ?? some.top) - some.top),
        rows: total + 1,
      }
    : noGap;
  const measure = windowed.measureElement;
  // It is drawn again when other rows come near, and not at each step of the wheel.
  const table = useMemo(
    () => (
      <Table<T>
        size="small"
        rowKey={rowKey}
        components={fits ? withHeads : components}
        dataSource={some ? rows.slice(first, end) : rows.slice(0, many)}
        loading={isPending}
        pagination={false}
        columns={
          some
            ? columns.map((c, n) => ({
                ...c,
                width: some.widths[n],
                ...(plain && { shouldCellUpdate: (row: T, before: T) => row !== before }),
              }))
            : columns
        }
        tableLayout={some ? "fixed" : undefined}
        scroll={fits ? undefined : { x: some ? some.widths.reduce((a, b) => a + b, 0) : wraps ? 960 : "max-content" }}
        locale={{ emptyText: empty }}
        showSorterTooltip={false}
        onRow={
          some
            ? (_, n) => ({ ref: measure, "data-index": first + (n ?? 0), "aria-rowindex": first + (n ?? 0) + 2 })
            : undefined
        }
        onChange={(_, __, sorter) => {
          const s = sorter as SorterResult<T>;
          sort?.(s.order ? `${s.order === "descend" ? "-" : ""}${String(s.columnKey)}` : undefined);
        }}
      />
    ),
    [rowKey, some, fits, rows, first, end, isPending, columns, plain, wraps, empty, measure, sort],
  );
  return (
    <div ref={box}>
      <GapContext value={gap}>{table}</GapContext>
    </div>
  );
}

/** The arrow of a column for the order that the list is in. */
export function orderOf(column: string, sort: string | undefined) {
  if (sort === column) return "ascend" as const;
  return sort === `-${column}` ? ("descend" as const) : null;
}
