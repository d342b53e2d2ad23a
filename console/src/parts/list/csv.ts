import type { Column } from "./column";

/**
 * The rows as a CSV file (RFC 4180). A cell that a spreadsheet would take for a formula has an apostrophe before it.
 */
export function csvOf<T>(columns: Column<T>[], rows: T[]): string {
  const told = columns.filter((c) => c.text);
  const lines = [told.map((c) => c.title), ...rows.map((r) => told.map((c) => String(c.text?.(r) ?? "")))];
  return lines.map((cells) => `${cells.map(cell).join(",")}\r\n`).join("");
}

function cell(text: string): string {
  const safe = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}
