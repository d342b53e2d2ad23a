/** A status as a shape, so that colour is not all that tells it. */
export function Mark({ x, y, r, status, colour }: { x: number; y: number; r: number; status: string; colour: string }) {
  switch (status) {
    case "in place":
      return <circle cx={x} cy={y} r={r} fill={colour} />;
    case "missing":
      return <circle cx={x} cy={y} r={r - 0.8} fill="none" stroke={colour} strokeWidth={r > 4 ? 2 : 1.2} />;
    case "ungranted":
      return (
        <rect
          x={x - r * 0.8}
          y={y - r * 0.8}
          width={r * 1.6}
          height={r * 1.6}
          transform={`rotate(45 ${x} ${y})`}
          fill={colour}
        />
      );
    default:
      return (
        <text x={x} y={y + r * 0.7} textAnchor="middle" fontSize={r * 2.2} fill={colour}>
          ?
        </text>
      );
  }
}
