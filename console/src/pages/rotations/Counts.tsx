import type { Rotation } from "../../api/client";
import { itemStates, lookOf } from "../../format";
import { useTones } from "../../look";
import { StateMark } from "../../parts/StateMark";

/** How many logins are in which state: as a bar, and in words. */
export function Counts({ of, bar }: { of: Rotation; bar?: boolean }) {
  const tones = useTones();
  const there = itemStates.filter((s) => (of.counts[s] ?? 0) > 0);
  return (
    <div>
      {bar && (
        <div role="img" aria-label={there.map((s) => `${of.counts[s] ?? 0} ${s}`).join(", ")} className="bar">
          {[...there]
            .sort((a, b) => rank[a] - rank[b])
            .map((s) => (
              <div
                key={s}
                style={{
                  width: `${((of.counts[s] ?? 0) * 100) / Math.max(of.total, 1)}%`,
                  background: tones[lookOf(s).tone],
                  opacity: s === "waiting" || s === "asked" ? 0.25 : 1,
                }}
              />
            ))}
        </div>
      )}
      <div className="row gap-m many">
        {there.map((s) => (
          <span key={s} className="inline gap-xs">
            <strong>{of.counts[s]}</strong> <StateMark state={s} />
          </span>
        ))}
      </div>
    </div>
  );
}

/** In the bar, what has ended comes first. */
const rank: Record<(typeof itemStates)[number], number> = {
  done: 0,
  undone: 1,
  failed: 2,
  removing: 3,
  proved: 4,
  placed: 5,
  placing: 6,
  undoing: 7,
  waiting: 8,
  asked: 9,
};
