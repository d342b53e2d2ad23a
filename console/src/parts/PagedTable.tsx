import { Button, Table, type TableColumnsType } from "antd";
import type { SorterResult } from "antd/es/table/interface";
import type { ReactNode } from "react";
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
}

/** A list that is read page by page, with its count and its empty state. */
export function PagedTable<T extends object>({ pages, columns, rowKey, noun, empty, sort, wraps }: Props<T>) {
  if (pages.error && pages.rows.length === 0) return <ProblemNote error={pages.error} again={() => void pages.refetch()} />;
  return (
    <>
      <Table<T>
        size="small" rowKey={rowKey} columns={columns} dataSource={pages.rows} loading={pages.isPending} pagination={false}
        scroll={wraps ? undefined : { x: "max-content" }} locale={{ emptyText: empty }} showSorterTooltip={false}
        onChange={(_, __, sorter) => {
          const s = sorter as SorterResult<T>;
          sort?.(s.order ? `${s.order === "descend" ? "-" : ""}${String(s.columnKey)}` : undefined);
        }}
      />
      {pages.rows.length > 0 && (
        <div style={{ display: "flex", alignItems: "center", gap: 12, padding: "10px 12px" }}>
          <span>{pages.rows.length === pages.total ? counted(pages.total, noun) : `${pages.rows.length} of ${counted(pages.total, noun)}`}</span>
          {pages.hasNextPage && <Button size="small" loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>Show more</Button>}
        </div>
      )}
    </>
  );
}

/** The arrow of a column for the order that the list is in. */
export function orderOf(column: string, sort: string | undefined) {
  if (sort === column) return "ascend" as const;
  return sort === `-${column}` ? ("descend" as const) : null;
}
