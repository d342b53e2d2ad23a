/** The one place that writes times, durations and states for people. */

import dayjs from "dayjs";

import type { components } from "./api/contract.gen";

/** A day as the client writes it: 2 Jan 2006. */
export const day = (iso: string) => dayjs(iso).format("D MMM YYYY");

export const weekdays = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

/**
 * The days from one on, by month: its title, the blanks before its first day in a week that begins on Monday, its
 * days.
 */
export function monthDays(from: Date, days: number): { title: string; blanks: number; dates: Date[] }[] {
  const out: { title: string; blanks: number; dates: Date[] }[] = [];
  for (let n = 0; n <= days; n++) {
    const d = dayjs(from).add(n, "day").hour(12);
    const title = d.format("MMM YYYY");
    if (out.at(-1)?.title !== title) out.push({ title, blanks: (d.day() + 6) % 7, dates: [] });
    out.at(-1)?.dates.push(d.toDate());
  }
  return out;
}

export const moment = (iso: string) => dayjs(iso).format("D MMM YYYY HH:mm");

/** The names of the keys that a rotation replaces. */
export function rotated({ keys, keys_total: total }: components["schemas"]["Rotation"]): string {
  return keys.join(", ") + (total > keys.length ? ` and ${total - keys.length} more` : "");
}

/** The time of the day, to the second. */
export const clock = (iso: string) => dayjs(iso).format("HH:mm:ss");

/** How long it is until a moment. */
export function left(iso: string, now: number): string {
  const seconds = Math.round((new Date(iso).getTime() - now) / 1000);
  if (seconds < 0) return `${spanText(-seconds)} overdue`;
  return seconds < 100 ? `in ${seconds} s` : `in ${Math.round(seconds / 60)} min`;
}

/** A span of time in words, as the client writes it. */
export function spanText(seconds: number): string {
  if (seconds < 1) return "nothing";
  if (seconds < 100) return `${Math.round(seconds)} s`;
  return seconds < 6000 ? `${Math.round(seconds / 60)} min` : `${(seconds / 3600).toFixed(1)} h`;
}

/** The name of a way back in, out of its code. */
export function routeTitle(route: string): string {
  const words = route.replaceAll("-", " ");
  return words.charAt(0).toUpperCase() + words.slice(1);
}

export function took(begin?: string, end?: string): string {
  if (!begin || !end) return "";
  const seconds = (new Date(end).getTime() - new Date(begin).getTime()) / 1000;
  return seconds < 60 ? `${seconds.toFixed(1)} s` : `${Math.floor(seconds / 60)} min ${Math.round(seconds % 60)} s`;
}

export const plural = (noun: string) => (noun === "entry" ? "entries" : `${noun}s`);

/** A number with its noun, given in the singular. */
/** A size in bytes, as 1.4 MB. */
export function sizeText(bytes: number): string {
  const units = ["B", "kB", "MB", "GB", "TB"];
  let n = bytes;
  let unit = 0;
  while (n >= 1000 && unit < units.length - 1) {
    n /= 1000;
    unit++;
  }
  return `${unit === 0 || n >= 100 ? Math.round(n) : n.toFixed(1)} ${units[unit]}`;
}

export const counted = (n: number, noun: string) => `${n} ${n === 1 ? noun : plural(noun)}`;

/** Says by when to act on a finding. */
export function actBy(f: { act_by?: string; weight: string }): string {
  if (f.act_by) return ` (${f.weight === "bad" ? "overdue since" : "by"} ${day(`${f.act_by}T00:00:00`)})`;
  return f.weight === "remark" ? "" : " (at once)";
}

export const typeText = (type: string, bits: number) => `${type} ${bits}`;

interface At {
  user: string;
  address: string;
  port: number;
}

/** What to type to log in; jump hosts on the way take the keys of the ssh-agent, or those that ssh tries by itself. */
export const loginCommand = (c: At & { via?: (At & { hidden?: boolean })[] }, file: string) => {
  const hops = (c.via ?? []).filter((h) => !h.hidden).map((h) => `${h.user}@${h.address}:${h.port}`);
  const jump = hops.length > 0 ? `-J ${hops.join(",")} ` : "";
  return `ssh -i ${file} -o IdentitiesOnly=yes ${jump}-p ${c.port} ${c.user}@${c.address}`;
};

/** The states of a login, the worst first, and what each means. */
export const reachOrder = ["shut", "unswept", "stale", "thin", "solid"] as const;
export const reachMeaning: Record<(typeof reachOrder)[number], string> = {
  shut: "no key in place that anybody is known to have",
  unswept: "nobody has read it yet",
  stale: "keys in place, none with a fresh proof",
  thin: "one holder with a fresh proof",
  solid: "two or more holders with a fresh proof",
};

/** The states of one login in a rotation, in their order. */
export const itemStates = [
  "asked",
  "waiting",
  "placing",
  "placed",
  "proved",
  "removing",
  "done",
  "failed",
  "undoing",
  "undone",
] as const;

/** A grace for people. */
export function graceText(seconds: number): string {
  if (seconds % 86_400 === 0) return counted(seconds / 86_400, "day");
  return seconds % 3600 === 0 ? counted(seconds / 3600, "hour") : counted(seconds, "second");
}

export type Tone = "good" | "busy" | "warn" | "bad" | "off";

interface Look {
  tone: Tone;
  sign: string;
}

/** What came of an entry of the daybook, beside the ends of runs. */
export type Outcome = "done" | "refused" | "found" | "failed";

/** Every state that the contract has, and the words of the console's own. */
export type State =
  | components["schemas"]["InstanceState"]
  | components["schemas"]["KeyState"]
  | components["schemas"]["Status"]
  | components["schemas"]["RunState"]
  | components["schemas"]["StepState"]
  | components["schemas"]["ReachState"]
  | components["schemas"]["RotationState"]
  | components["schemas"]["RotationItemState"]
  | components["schemas"]["CharterSettlementChangeState"]
  | Outcome
  | NonNullable<components["schemas"]["ProofDue"]["state"]>
  | NonNullable<components["schemas"]["Consent"]["state"]>
  | "stranger"
  | "open"
  | "closed"
  | "leaving"
  | "sending"
  | "answers"
  | "no answer"
  | "not asked yet"
  | "works"
  | "not seen"
  | "late"
  | "waits for somebody";

/** Every state has a sign and a word, so that colour is never all that tells it; one without is a compile error. */
const looks: Record<State, Look> = {
  running: { tone: "good", sign: "●" },
  stopped: { tone: "off", sign: "■" },
  launching: { tone: "busy", sign: "◔" },
  starting: { tone: "busy", sign: "◔" },
  stopping: { tone: "busy", sign: "◔" },
  deleting: { tone: "busy", sign: "◔" },
  deleted: { tone: "off", sign: "✕" },
  failed: { tone: "bad", sign: "✕" },
  "in place": { tone: "good", sign: "●" },
  missing: { tone: "bad", sign: "○" },
  ungranted: { tone: "warn", sign: "◆" },
  stranger: { tone: "bad", sign: "▲" },
  unswept: { tone: "off", sign: "?" },
  active: { tone: "good", sign: "●" },
  retired: { tone: "off", sign: "■" },
  lost: { tone: "bad", sign: "▲" },
  done: { tone: "good", sign: "✓" },
  undone: { tone: "warn", sign: "↶" },
  undoing: { tone: "warn", sign: "↶" },
  refused: { tone: "warn", sign: "✕" },
  "never proved": { tone: "warn", sign: "○" },
  "soon stale": { tone: "off", sign: "◔" },
  shut: { tone: "bad", sign: "■" },
  stale: { tone: "warn", sign: "◑" },
  thin: { tone: "warn", sign: "◔" },
  solid: { tone: "good", sign: "●" },
  placing: { tone: "busy", sign: "◔" },
  placed: { tone: "busy", sign: "◑" },
  proved: { tone: "busy", sign: "◕" },
  removing: { tone: "busy", sign: "◕" },
  paused: { tone: "warn", sign: "‖" },
  queued: { tone: "busy", sign: "◔" },
  asked: { tone: "warn", sign: "?" },
  waiting: { tone: "off", sign: "·" },
  "at-work": { tone: "busy", sign: "◔" },
  "left-out": { tone: "warn", sign: "!" },
  open: { tone: "good", sign: "●" },
  closed: { tone: "off", sign: "■" },
  leaving: { tone: "warn", sign: "◔" },
  granted: { tone: "good", sign: "✓" },
  used: { tone: "off", sign: "✓" },
  over: { tone: "off", sign: "■" },
  sending: { tone: "good", sign: "●" },
  answers: { tone: "good", sign: "●" },
  "no answer": { tone: "bad", sign: "▲" },
  "not asked yet": { tone: "off", sign: "·" },
  found: { tone: "bad", sign: "▲" },
  late: { tone: "warn", sign: "!" },
  works: { tone: "good", sign: "✓" },
  "not seen": { tone: "warn", sign: "?" },
  left: { tone: "warn", sign: "!" },
  "needs-person": { tone: "bad", sign: "!" },
  "waits for somebody": { tone: "warn", sign: "?" },
};

export const lookOf = (state: State): Look => looks[state];

/** A state that the contract leaves open, such as an outcome; undefined where there is no sign for it. */
export const stateOf = (text: string): State | undefined => (text in looks ? (text as State) : undefined);
