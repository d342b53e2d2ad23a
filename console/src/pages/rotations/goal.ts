import type { RotationWanted } from "../../api/client";

/** What a rotation is for. */
export type Goal = "old" | "weak" | "shared" | "lost" | "keys";

export const goals: Record<Goal, { title: string; about: string }> = {
  old: { title: "Renew old keys", about: "Keys that were recorded more than 180 days ago." },
  weak: { title: "Replace weak keys", about: "RSA keys with fewer than 3072 bits." },
  shared: { title: "End sharing", about: "Keys on more than one instance: each gets its own." },
  lost: { title: "A key was lost", about: "Keys that are marked as lost, at once." },
  keys: { title: "Replace certain keys", about: "Keys that you name, wherever they are in place." },
};

export const isGoal = (text: string | undefined): text is Goal => text !== undefined && text in goals;

/** Where the new keys come from. */
export type Source = "service" | "here" | "bring";

export interface GoalValues {
  keys?: string[];
  older_days?: number;
  weaker_than?: string;
  label?: string;
  source: Source;
  reason?: string;
}

/** What a goal's fields come to. */
export function wantedFor(goal: Goal, v: GoalValues): RotationWanted {
  const named = v.keys?.length ? v.keys : undefined;
  const label = v.label || undefined;
  switch (goal) {
    case "old":
      return { older_days: v.older_days || undefined, label };
    case "weak":
      return { weaker_than: v.weaker_than || undefined, label };
    case "shared":
      return { shared: true, keys: named, label, each: "instance" };
    case "lost":
      return { lost: true, keys: named, urgent: true };
    case "keys":
      return { keys: named, label };
  }
}

/** Whether the fields say which keys. */
export const isComplete = (w: RotationWanted) =>
  Boolean(w.keys?.length ?? w.older_days ?? w.weaker_than ?? w.shared ?? w.lost);

/** The same in the form that has everything. */
export function inFull(w: RotationWanted): string {
  const params = new URLSearchParams({ all: "true" });
  w.keys?.forEach((k) => params.append("key", k));
  if (w.older_days) params.set("older_days", String(w.older_days));
  if (w.weaker_than) params.set("weaker_than", w.weaker_than);
  if (w.label) params.set("label", w.label);
  for (const flag of ["shared", "lost", "urgent"] as const) if (w[flag]) params.set(flag, "true");
  return `/rotations/plan?${params.toString()}`;
}
