import type { RotationWanted } from "../../api/client";

/** The same as a command of the client. */
export function commandFor(w: RotationWanted): string {
  const flags: string[] = [];
  const add = (name: string, value: string | number | undefined) => {
    if (value !== undefined) flags.push(`-${name} ${value}`);
  };
  w.keys?.forEach((k) => add("key", k));
  add("holder", w.holder);
  add("type", w.type);
  add("weaker-than", w.weaker_than);
  add("label", w.label);
  add("region", w.region);
  if (w.older_days) flags.push(`-older ${w.older_days}d`);
  if (w.shared) flags.push("-shared");
  if (w.lost) flags.push("-lost");
  if (w.each === "instance") flags.push("-each instance");
  if (w.overlap) flags.push(`-overlap ${w.overlap}`);
  if (w.urgent) flags.push("-urgent");
  if (w.from_here) flags.push("-from-here -with FILE");
  return `plumlatch rotate start ${flags.join(" ")}`;
}
