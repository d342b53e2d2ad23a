import { useState, type ReactNode } from "react";
import { Button } from "antd";
import type { Pages } from "../../api/queries";
import { counted, plural } from "../../format";
import { ProblemNote } from "../ProblemNote";
import { usePlace } from "../usePlace";
import { chosenOf, type Column } from "./column";
import { Rows } from "./Rows";
import { Tools } from "./Tools";

interface Props<T> {
  pages: Pages<T>;
  columns: Column<T>[];
  rowKey: (row: T) => string;
  /** In the singular. */
  noun: string;
  empty: ReactNode;
  /** The order that the list is in: a column's key, with a minus before it for the other way round. */
  order?: string;
  sort?: (order: string | undefined) => void;
  /** Whether long texts wrap; else a wide table scrolls. */
  wraps?: boolean;
  /** What narrows the list, above it. With it come the columns to choose, saved views and the CSV file. */
  filters?: ReactNode;
  /** What can be done with rows that are chosen. */
  acts?: (rows: T[], clear: () => void) => ReactNode;
  /** By what a row is called when it is chosen. */
  nameOf?: (row: T) => string;
}

/** A list that is read page by page, with its count and its empty state. */
export function PagedTable<T extends object>(props: Props<T>) {
  const { pages, columns, rowKey, noun, acts, filters } = props;
  const { get } = usePlace();
  const [chosen, setChosen] = useState<ReadonlyMap<string, T>>(none);
  const shown = filters ? chosenOf(columns, get("columns")) : columns;
  // What is chosen stays so when it leaves the list, so that what is done with it can be seen to its end.
  const now = new Map(chosen.size > 0 ? pages.rows.map((r) => [rowKey(r), r]) : []);
  const picked = Array.from(chosen, ([key, row]) => now.get(key) ?? row);
  const clear = () => setChosen(none);
  return (
    <>
      {filters && (
        <div className="row middle many after-m">
          {filters}
          <Tools pages={pages} columns={columns} shown={shown} noun={noun} />
        </div>
      )}
      {pages.error && pages.rows.length === 0 ? (
        <ProblemNote error={pages.error} again={() => void pages.refetch()} />
      ) : (
        <Rows
          key={shown.map((c) => c.key).join()}
          {...props}
          columns={shown}
          choice={acts && { chosen, choose: setChosen, nameOf: props.nameOf ?? rowKey }}
        />
      )}
      {pages.rows.length > 0 && (
        <div className="row gap-m middle padded-s">
          <span>
            {pages.rows.length === pages.total
              ? counted(pages.total, noun)
              : `${pages.rows.length} of ${counted(pages.total, noun)}`}
          </span>
          {pages.hasNextPage && (
            <Button size="small" loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
              Show more
            </Button>
          )}
        </div>
      )}
      {acts && picked.length > 0 && (
        <div className="chosen-bar" role="region" aria-label={`What to do with the chosen ${plural(noun)}`}>
          <strong>{counted(picked.length, noun)} chosen</strong>
          {acts(picked, clear)}
          <Button type="text" className="push" onClick={clear}>
            Choose none
          </Button>
        </div>
      )}
    </>
  );
}

const none: ReadonlyMap<string, never> = new Map<string, never>();
