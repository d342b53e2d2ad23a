import type { ReactNode } from "react";

/** A column of a list. What it says as text also goes into a CSV file; one without text is left out there. */
export interface Column<T> {
  key: string;
  title: string;
  /** Whether its head is there for those alone who hear the page. */
  unseen?: boolean;
  text?: (row: T) => string | number | undefined;
  /** The cell, where it is more than its text. */
  render?: (row: T) => ReactNode;
  align?: "right";
  /** Whether the list can be in its order. */
  sorts?: boolean;
  /** Left out until somebody chooses it. */
  extra?: boolean;
}

/** The columns that are chosen, named in the address as "key,key"; those that are not extra where none are. */
export function chosenOf<T>(columns: Column<T>[], named: string | undefined): Column<T>[] {
  if (!named) return columns.filter((c) => !c.extra);
  const keys = named.split(",");
  const chosen = columns.filter((c) => !c.text || keys.includes(c.key));
  return chosen.some((c) => c.text) ? chosen : columns.filter((c) => !c.extra);
}
