/** A recording in asciicast v2. */
export interface Cast {
  cols: number;
  rows: number;
  title: string;
  events: { at: number; kind: string; data: string }[];
}

/** Reads a recording: a line that tells of it, then one for each event. What cannot be read is left out. */
export function readCast(text: string): Cast {
  const [first, ...lines] = text.split("\n");
  const head = JSON.parse(first ?? "{}") as { width?: number; height?: number; title?: string };
  const size = (n: number | undefined, usual: number) => Math.min(Math.max(n ?? usual, 2), 1000);
  const events = lines.flatMap((line) => {
    if (!line) return [];
    const [at, kind, data] = JSON.parse(line) as [unknown, unknown, unknown];
    return typeof at === "number" && typeof kind === "string" && typeof data === "string" ? [{ at, kind, data }] : [];
  });
  return { cols: size(head.width, 80), rows: size(head.height, 24), title: head.title ?? "", events };
}
