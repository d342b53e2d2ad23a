import { theme } from "antd";
import { Link } from "react-router";
import type { ReachState, Status } from "../../api/client";
import { lookOf } from "../../format";
import { useTones } from "../../look";
import { KeyGlyph } from "../../parts/KeyGlyph";

export interface GraphNode {
  id: string;
  text: string;
  note?: string;
  to?: string;
  sha256?: string;
  states?: { state: ReachState; count: number }[];
}

interface Props {
  label: string;
  /** From left to right. */
  layers: GraphNode[][];
  edges: { from: string; to: string; status: Status }[];
}

const across = 1000;
const step = 46;
const high = 38;
const wide = 250;

/** Layers of nodes with lines between them; its nodes are links, so that the keyboard comes to each. */
export function Graph({ label, layers, edges }: Props) {
  const { token } = theme.useToken();
  const tones = useTones();
  const height = Math.max(...layers.map((l) => l.length)) * step;
  const places = new Map<string, { x: number; y: number }>();
  layers.forEach((layer, n) => {
    const x = (n * (across - wide)) / Math.max(layers.length - 1, 1);
    layer.forEach((node, i) =>
      places.set(node.id, { x, y: (height - layer.length * step) / 2 + i * step + (step - high) / 2 }),
    );
  });
  return (
    <div className="scrolls">
      <svg viewBox={`0 0 ${across} ${height}`} role="group" aria-label={label} className="graph">
        {edges.map((e) => {
          const from = places.get(e.from);
          const to = places.get(e.to);
          if (!from || !to) return null;
          const [x1, y1, x2, y2] = [from.x + wide, from.y + high / 2, to.x, to.y + high / 2];
          const bend = (x2 - x1) / 2;
          return (
            <path
              key={`${e.from} ${e.to}`}
              d={`M${x1} ${y1} C${x1 + bend} ${y1} ${x2 - bend} ${y2} ${x2} ${y2}`}
              fill="none"
              stroke={e.status === "in place" ? token.colorTextTertiary : tones[lookOf(e.status).tone]}
              strokeWidth={1.6}
              strokeDasharray={e.status === "in place" ? undefined : "5 4"}
            >
              <title>{e.status}</title>
            </path>
          );
        })}
        {layers.flat().map((node) => {
          const at = places.get(node.id);
          if (!at) return null;
          return (
            <foreignObject key={node.id} x={at.x} y={at.y} width={wide} height={high}>
              <div className="graph-node">
                {node.sha256 && <KeyGlyph sha256={node.sha256} size={20} />}
                <span className="shrinks">
                  <span className="block cut" title={node.text}>
                    {node.to ? (
                      <Link to={node.to} className="plain-ink">
                        {node.text}
                      </Link>
                    ) : (
                      node.text
                    )}
                  </span>
                  <span className="block cut small">
                    {node.note}
                    {node.states?.map((s) => (
                      <span key={s.state} className={lookOf(s.state).tone}>
                        {lookOf(s.state).sign} {s.count > 1 && s.count} {s.state}{" "}
                      </span>
                    ))}
                  </span>
                </span>
              </div>
            </foreignObject>
          );
        })}
      </svg>
    </div>
  );
}
