import { theme } from "antd";
import type { Rotation } from "../../api/client";
import { itemStates, lookOf } from "../../format";
import { useTones } from "../../look";
import { StateMark } from "../../parts/StateMark";

/** How many logins are in which state: as a bar, and in words. */
export function Counts({ of, bar }: { of: Rotation; bar?: boolean }) {
  const { token } = theme.useToken();
  const tones = useTones();
  const there = itemStates.filter((s) => (of.counts[s] ?? 0) > 0);
  return (
    <div>
      {bar && (
        <div
          role="img"
          aria-label={there.map((s) => `${of.counts[s] ?? 0} ${s}`).join(", ")}
          style={{
            display: "flex",
            height: 12,
            borderRadius: 6,
            overflow: "hidden",
            background: token.colorFillSecondary,
            marginBottom: 8,
          }}
        >
          {[...there]
            .sort((a, b) => rank[a] - rank[b])
            .map((s) => (
              <div
                key={s}
                style={{
                  width: `${((of.counts[s] ?? 0) * 100) / Math.max(of.total, 1)}%`,
                  background: tones[lookOf(s).tone],
                  opacity: s === "waiting" || s === "asked" ? 0.25 : 1,
                  transition: "width 0.2s",
                }}
              />
            ))}
        </div>
      )}
      <div style={{ display: "flex", gap: 14, flexWrap: "wrap" }}>
        {there.map((s) => (
          <span key={s} style={{ display: "inline-flex", gap: 4 }}>
            <strong>{of.counts[s]}</strong> <StateMark state={s} />
          </span>
        ))}
      </div>
    </div>
  );
}

/** In the bar, what has ended stands first. */
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
