import { theme } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { counted, lookOf, reachOrder } from "../../format";
import { useTones } from "../../look";
import { useDialogs } from "../../parts/dialogs";
import { KeyGlyph } from "../../parts/KeyGlyph";
import { StateMark } from "../../parts/StateMark";
import { headHeight } from "../../theme";
import { statesOf, type Grid as GridOf, type GridColumn, type GridRow } from "./grid";
import { Mark } from "./Mark";
import { RowDialog } from "./RowDialog";

/** The heights that a row can have, in pixels: names are drawn from the second on. */
export const heights = [6, 14, 22] as const;

/** Where a key of the keyboard leads to on the map; undefined where it leads nowhere. */
function moved(key: string, at: { row: number; column: number }, rows: number, columns: number) {
  const within = (n: number, count: number) => Math.max(0, Math.min(count - 1, n));
  const steps: Record<string, [row: number, column: number]> = {
    ArrowDown: [1, 0],
    ArrowUp: [-1, 0],
    ArrowRight: [0, 1],
    ArrowLeft: [0, -1],
    PageDown: [10, 0],
    PageUp: [-10, 0],
    Home: [-rows, 0],
    End: [rows, 0],
  };
  const step = steps[key];
  return step && { row: within(at.row + step[0], rows), column: within(at.column + step[1], columns) };
}

const short = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);
const more = (name: string, count: number, most: number) =>
  count > 1 ? `${short(name, most - 5)} +${count - 1}` : short(name, most);

/** Logins against keys, which the arrows go through and Enter opens. */
export function Grid({ of, size, label }: { of: GridOf; size: 0 | 1 | 2; label: string }) {
  const { token } = theme.useToken();
  const tones = useTones();
  const go = useNavigate();
  const { open, close } = useDialogs();
  const [at, setAt] = useState<{ row: number; column: number }>();
  const height = heights[size];
  const named = size > 0;
  const keys = of.columns.length;
  const column = keys <= 24 ? Math.max(26, Math.min(64, 760 / Math.max(keys, 1))) : keys <= 60 ? 16 : 7;
  const keyNames = column >= 16;
  const left = named ? 340 : 84;
  const top = keyNames ? 136 : 12;
  const width = left + keys * column + 112;
  const whole = top + of.rows.length * height + 6;
  const row = at && of.rows[at.row];
  const find = (e: React.MouseEvent<SVGSVGElement>) => {
    const box = e.currentTarget.getBoundingClientRect();
    const r = Math.floor((e.clientY - box.top - top) / height);
    const c = Math.floor((e.clientX - box.left - left) / column);
    setAt(r >= 0 && r < of.rows.length ? { row: r, column: c } : undefined);
  };
  const enter = () => {
    if (row?.id) open(<RowDialog id={row.id} close={close} />);
    else if (row) void go(`/logins/${encodeURIComponent(row.name)}`);
  };
  const typed = (e: React.KeyboardEvent<SVGSVGElement>) => {
    if (e.key === "Enter") enter();
    const to = moved(e.key, at ?? { row: -1, column: 0 }, of.rows.length, keys);
    if (!to) return;
    e.preventDefault();
    setAt(to);
    const y = e.currentTarget.getBoundingClientRect().top + top + to.row * height;
    const [first, last] = [headHeight + 48, window.innerHeight - 2 * height];
    if (y < first || y > last) window.scrollBy({ top: y - (y < first ? first : last) });
  };
  return (
    <>
      <div aria-live="polite" className="map-note">
        {row ? <Pointed row={row} column={of.columns[at.column]} place={at.column} /> : <Legend bars={!named} />}
      </div>
      <div className="scrolls">
        <svg
          width={width}
          height={whole}
          role="application"
          aria-label={`${label}: arrows move, Enter opens; the view Logins tells the same in words`}
          tabIndex={0}
          onKeyDown={typed}
          onBlur={() => setAt(undefined)}
          className={size === 2 ? "map large" : "map"}
          onMouseMove={find}
          onMouseLeave={() => setAt(undefined)}
          onClick={enter}
        >
          {at && <rect x={0} y={top + at.row * height} width={width} height={height} fill={token.colorFillSecondary} />}
          {at && of.columns[at.column] && (
            <rect x={left + at.column * column} y={0} width={column} height={whole} fill={token.colorFillTertiary} />
          )}
          {keyNames &&
            of.columns.map((k, n) => (
              <text
                key={k.sha256}
                transform={`translate(${left + n * column + column / 2 + 4} ${top - 8}) rotate(-55)`}
                fill={k.state === "active" ? token.colorText : tones.bad}
                fontSize={12}
              >
                {more(k.name, k.count, 19)}
              </text>
            ))}
          {of.rows.map((r, n) => {
            const y = top + n * height + height / 2;
            return (
              <g key={r.id ?? r.name}>
                <States of={r} y={y} height={height} named={named} />
                {named && (
                  <text x={128} y={y + 4} fill={token.colorText}>
                    {more(r.name, r.count, 29)}
                  </text>
                )}
                {r.cells.map((c) => (
                  <Mark
                    key={c.key}
                    x={left + c.key * column + column / 2}
                    y={y}
                    r={Math.max(2, Math.min(height, column) / 2 - (named ? 3 : 0.8))}
                    status={c.status}
                    colour={tones[lookOf(c.status).tone]}
                  />
                ))}
                {r.strangers > 0 && (
                  <text x={left + keys * column + 12} y={y + 4} fill={tones.bad} fontSize={named ? 12 : 9}>
                    ▲ {named ? counted(r.strangers, "stranger") : r.strangers}
                  </text>
                )}
              </g>
            );
          })}
        </svg>
      </div>
    </>
  );
}

/** The reach of the logins of a row: a bar in parts, and in words where there is the height. */
function States({ of, y, height, named }: { of: GridRow; y: number; height: number; named: boolean }) {
  const tones = useTones();
  const states = statesOf(of);
  const one = states[0];
  if (named)
    return (
      <text x={0} y={y + 4}>
        {states.length === 1 && one ? (
          <tspan fill={tones[lookOf(one.state).tone]}>
            {lookOf(one.state).sign} {of.count > 1 && `${one.count} `}
            {one.state}
          </tspan>
        ) : (
          states.map((s) => (
            <tspan key={s.state} fill={tones[lookOf(s.state).tone]}>
              {lookOf(s.state).sign} {s.count}{" "}
            </tspan>
          ))
        )}
      </text>
    );
  return (
    <g>
      {states.map((s, n) => {
        const before = states.slice(0, n).reduce((sum, b) => sum + b.count, 0);
        return (
          <rect
            key={s.state}
            x={(before / of.count) * 72}
            y={y - height / 2 + 1}
            width={(s.count / of.count) * 72}
            height={height - 1}
            fill={tones[lookOf(s.state).tone]}
            opacity={s.state === "thin" ? 0.45 : 1}
          />
        );
      })}
    </g>
  );
}

/** What is pointed at, in words. */
function Pointed({ row, column, place }: { row: GridRow; column?: GridColumn; place: number }) {
  const cell = row.cells.find((c) => c.key === place);
  return (
    <>
      <strong>{row.count > 1 ? `${row.name} and ${row.count - 1} more` : row.name}</strong>
      {statesOf(row).map((s) => (
        <span key={s.state}>
          {row.count > 1 && s.count} <StateMark state={s.state} />
        </span>
      ))}
      {column && (
        <span className="inline middle">
          <KeyGlyph sha256={column.sha256} size={18} /> {column.name}
          {column.count > 1 && ` and ${column.count - 1} more`}, {column.holder ?? "nobody"}
          {column.state === "active"
            ? column.fresh > 0
              ? ", freshly proved"
              : ", not freshly proved"
            : `, ${column.state}`}
        </span>
      )}
      {column && (cell ? <StateMark state={cell.status} /> : "neither is in place there nor should")}
      {row.strangers > 0 && <span className="bad">▲ {counted(row.strangers, "stranger")}</span>}
    </>
  );
}

function Legend({ bars }: { bars: boolean }) {
  return (
    <>
      {(["in place", "missing", "ungranted", "unswept"] as const).map((f) => (
        <StateMark key={f} state={f} />
      ))}
      <span className="bad">▲ strangers</span>
      {bars && (
        <span className="row gap-xs">
          the bar on the left:
          {reachOrder.map((s) => (
            <StateMark key={s} state={s} />
          ))}
        </span>
      )}
      <span className="screen-only">Point at a place to see whose key it is.</span>
    </>
  );
}
