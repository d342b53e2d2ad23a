import { useMemo } from "react";

/**
 * A key's glyph: a blossom drawn from the SHA-256 fingerprint, so that two keys
 * are told apart at a glance. Bytes 0 to 4 shape the five petals, the others give
 * turn, colours and heart. It helps the eye; only the fingerprint is proof.
 */
export function KeyGlyph({ sha256, size = 22 }: { sha256: string; size?: number }) {
  const b = useMemo(() => bytesOf(sha256), [sha256]);
  if (b.length < 12) return null;
  const at = (i: number) => b[i] ?? 0;
  const hue = (at(5) * 360) / 256;
  const other = (hue + 90 + (at(6) * 180) / 256) % 360;
  const turn = (at(7) * 72) / 256;
  const petals = [0, 1, 2, 3, 4].map((i) => {
    const v = at(i);
    const long = 7 + (v & 3) * 1.9;
    const wide = 2.6 + ((v >> 2) & 3) * 0.9;
    const hollow = ((v >> 4) & 3) === 0;
    const colour = (v >> 6) & 1 ? `hsl(${other} 62% 46%)` : `hsl(${hue} 62% 46%)`;
    return (
      <ellipse
        key={i}
        cx={16}
        cy={16 - long / 2 - 1.5}
        rx={wide}
        ry={long / 2 + 1}
        transform={`rotate(${turn + i * 72} 16 16)`}
        fill={hollow ? "none" : colour}
        stroke={colour}
        strokeWidth={1.6}
      />
    );
  });
  const heart = at(8) & 3;
  const fill = at(9) & 1 ? "#2b1226" : "#ffffff";
  return (
    <svg width={size} height={size} viewBox="0 0 32 32" aria-hidden className="glyph">
      <rect width="32" height="32" rx={at(10) & 1 ? 16 : 7} fill={`hsl(${hue} 40% ${at(11) & 1 ? 88 : 94}%)`} />
      {petals}
      {heart === 0 && <circle cx={16} cy={16} r={3.2} fill={fill} />}
      {heart === 1 && <rect x={13} y={13} width={6} height={6} fill={fill} />}
      {heart === 2 && <path d="M16 11.6 20.4 16 16 20.4 11.6 16z" fill={fill} />}
      {heart === 3 && <circle cx={16} cy={16} r={2.6} fill="none" stroke={fill} strokeWidth={2} />}
    </svg>
  );
}

function bytesOf(sha256: string): number[] {
  try {
    return Array.from(atob(sha256.replace(/^SHA256:/, "")), (c) => c.charCodeAt(0));
  } catch {
    return [];
  }
}
