import { Card, Select, Tag, theme } from "antd";
import { useMemo, useState } from "react";
import { useNavigate } from "react-router";
import type { MapLogin, ReachMap } from "../../api/client";
import { useHolders, useReachMap } from "../../api/queries";
import { counted, lookOf, reachOrder, type State } from "../../format";
import { useTones } from "../../look";
import { headHeight } from "../../theme";
import { EmptyNote } from "../../parts/EmptyNote";
import { KeyGlyph } from "../../parts/KeyGlyph";
import { Loading } from "../../parts/Loading";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { SearchBox } from "../../parts/SearchBox";
import { StateMark } from "../../parts/StateMark";
import { usePlace } from "../../parts/usePlace";
import { ReachTabs } from "./ReachTabs";
import { Toggle } from "../../parts/Toggle";

/** Logins against keys: which key is in place where, or should be. */
export default function MapPage() {
  const { get, set } = usePlace();
  const holders = useHolders();
  const f = {
    q: get("q"),
    state: get("state"),
    drift: get("drift"),
    region: get("region"),
    label: get("label"),
    holder: get("holder"),
    key: get("key"),
  };
  const map = useReachMap(f);
  return (
    <>
      <PageHead title="Reach map" note="logins against keys, the worst logins and the widest keys first" />
      <ReachTabs />
      <div className="row middle many after-m">
        <SearchBox value={f.q ?? ""} change={(v) => set("q", v)} hint="Login" />
        <Select
          allowClear
          placeholder="Reach"
          aria-label="Reach"
          className="field-s"
          value={f.state}
          onChange={(v) => set("state", v)}
          options={reachOrder.map((s) => ({ value: s, label: s }))}
        />
        <Select
          allowClear
          showSearch
          placeholder="Holder"
          aria-label="Holder"
          className="field-m"
          value={f.holder}
          onChange={(v) => set("holder", v)}
          options={holders.data?.map((k) => ({ value: k.name, label: k.name }))}
        />
        {(["region", "label", "key"] as const).map(
          (n) =>
            f[n] && (
              <Tag key={n} closable onClose={() => set(n, undefined)}>
                {n} {f[n]}
              </Tag>
            ),
        )}
        <Toggle on={f.drift === "true"} change={(to) => set("drift", to)}>
          only with drift
        </Toggle>
      </div>
      {map.error ? (
        <ProblemNote error={map.error} again={() => void map.refetch()} />
      ) : !map.data ? (
        <Loading />
      ) : map.data.logins.length === 0 ? (
        <Card size="small">
          <EmptyNote text="No login matches." />
        </Card>
      ) : (
        <Drawn of={map.data} />
      )}
    </>
  );
}

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

/** How large things are drawn, by how many there are. */
function scaleFor(logins: number, keys: number) {
  const row = logins <= 60 ? 22 : logins <= 200 ? 14 : 6;
  const column = keys <= 24 ? Math.max(26, Math.min(64, 800 / keys)) : keys <= 60 ? 16 : 7;
  return { row, column, rowNames: row >= 14, keyNames: column >= 16 };
}

function Drawn({ of }: { of: ReachMap }) {
  const { token } = theme.useToken();
  const tones = useTones();
  const go = useNavigate();
  const [at, setAt] = useState<{ row: number; column: number }>();
  const { row, column, rowNames, keyNames } = scaleFor(of.logins.length, of.keys.length);
  const left = rowNames ? 290 : 84;
  const top = keyNames ? 136 : 12;
  const width = left + of.keys.length * column + 112;
  const height = top + of.logins.length * row + 6;
  const bands = useMemo(() => bandsOf(of.logins), [of.logins]);
  const login = at && of.logins[at.row];
  const key = at && of.keys[at.column];
  const cell = login?.cells.find((c) => c.key === at?.column);
  const strangers = login && login.strangers > 0 && counted(login.strangers, "stranger");
  const find = (e: React.MouseEvent<SVGSVGElement>) => {
    const box = e.currentTarget.getBoundingClientRect();
    const r = Math.floor((e.clientY - box.top - top) / row);
    const c = Math.floor((e.clientX - box.left - left) / column);
    setAt(r >= 0 && r < of.logins.length ? { row: r, column: c } : undefined);
  };
  const open = () => login && void go(`/logins/${encodeURIComponent(login.login)}`);
  const keys = (e: React.KeyboardEvent<SVGSVGElement>) => {
    if (e.key === "Enter") open();
    const to = moved(e.key, at ?? { row: -1, column: 0 }, of.logins.length, of.keys.length);
    if (!to) return;
    e.preventDefault();
    setAt(to);
    const y = e.currentTarget.getBoundingClientRect().top + top + to.row * row;
    const [first, last] = [headHeight + 48, window.innerHeight - 2 * row];
    if (y < first || y > last) window.scrollBy({ top: y - (y < first ? first : last) });
  };
  return (
    <Card size="small" styles={{ body: { padding: 12 } }}>
      <div aria-live="polite" className="map-note">
        {login ? (
          <>
            <strong>{login.login}</strong> <StateMark state={login.reach} />
            {key && (
              <span className="inline middle">
                <KeyGlyph sha256={key.sha256} size={18} /> {key.name}, {key.holder ?? "nobody"}
                {key.state === "active" ? (key.fresh ? ", freshly proved" : ", not freshly proved") : `, ${key.state}`}
              </span>
            )}
            {key && (cell ? <StateMark state={cell.status} /> : "neither is in place there nor should")}
            {strangers && <span className="bad">▲ {strangers}</span>}
          </>
        ) : (
          <Legend />
        )}
      </div>
      <div className="scrolls">
        <svg
          width={width}
          height={height}
          role="application"
          aria-label={
            `${counted(of.logins.length, "login")} against ${counted(of.keys.length, "key")}: arrows move, ` +
            "Enter opens the login; the view Logins tells the same in words"
          }
          tabIndex={0}
          onKeyDown={keys}
          onBlur={() => setAt(undefined)}
          className={row >= 22 ? "map large" : "map"}
          onMouseMove={find}
          onMouseLeave={() => setAt(undefined)}
          onClick={open}
        >
          {at && <rect x={0} y={top + at.row * row} width={width} height={row} fill={token.colorFillSecondary} />}
          {at && key && (
            <rect x={left + at.column * column} y={0} width={column} height={height} fill={token.colorFillTertiary} />
          )}
          {keyNames &&
            of.keys.map((k, n) => (
              <text
                key={k.name}
                transform={`translate(${left + n * column + column / 2 + 4} ${top - 8}) rotate(-55)`}
                fill={k.state === "active" ? token.colorText : tones.bad}
                fontSize={12}
              >
                {short(k.name, 19)}
              </text>
            ))}
          {bands.map((b) => (
            <g key={b.state}>
              <rect
                x={0}
                y={top + b.from * row + 1}
                width={5}
                height={b.count * row - 2}
                fill={tones[lookOf(b.state).tone]}
                rx={2}
              />
              {!rowNames && b.count * row >= 14 && (
                <text x={10} y={top + b.from * row + 12} fontSize={12} fill={tones[lookOf(b.state).tone]}>
                  {b.state} {b.count}
                </text>
              )}
              <line
                x1={0}
                x2={width}
                y1={top + b.from * row}
                y2={top + b.from * row}
                stroke={token.colorBorderSecondary}
              />
            </g>
          ))}
          {of.logins.map((l, r) => (
            <Row
              key={l.login}
              of={l}
              y={top + r * row + row / 2}
              left={left}
              row={row}
              column={column}
              named={rowNames}
              keys={of.keys.length}
              ink={token.colorText}
              tones={tones}
            />
          ))}
        </svg>
      </div>
      <div className="small quiet before-s">
        {of.logins.length < of.total
          ? `The worst ${of.logins.length} of ${counted(of.total, "login")}.`
          : `${counted(of.total, "login")}.`}{" "}
        {counted(of.keys.length, "key")}. Steward keys are not drawn. A click opens the login, and so do the arrows and
        Enter.
      </div>
    </Card>
  );
}

function Row({
  of,
  y,
  left,
  row,
  column,
  named,
  keys,
  ink,
  tones,
}: {
  of: MapLogin;
  y: number;
  left: number;
  row: number;
  column: number;
  named: boolean;
  keys: number;
  ink: string;
  tones: ReturnType<typeof useTones>;
}) {
  const r = Math.max(2, Math.min(row, column) / 2 - (row >= 14 ? 3 : 0.8));
  return (
    <g>
      {named && (
        <text x={12} y={y + 4} fill={tones[lookOf(of.reach).tone]}>
          {of.reach}
        </text>
      )}
      {named && (
        <text x={78} y={y + 4} fill={ink}>
          {short(of.login, row >= 22 ? 28 : 34)}
        </text>
      )}
      {of.cells.map((c) => (
        <Mark
          key={c.key}
          x={left + c.key * column + column / 2}
          y={y}
          r={r}
          status={c.status}
          colour={tones[lookOf(c.status).tone]}
        />
      ))}
      {of.strangers > 0 && (
        <text x={left + keys * column + 12} y={y + 4} fill={tones.bad} fontSize={row >= 14 ? 12 : 9}>
          ▲ {named ? counted(of.strangers, "stranger") : of.strangers}
        </text>
      )}
    </g>
  );
}

/** A status as a shape, so that colour is not all that tells it. */
function Mark({ x, y, r, status, colour }: { x: number; y: number; r: number; status: string; colour: string }) {
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

function Legend() {
  return (
    <>
      {(["in place", "missing", "ungranted", "unswept"] as const).map((f) => (
        <StateMark key={f} state={f} />
      ))}
      <span>Point at a place to see whose key it is.</span>
    </>
  );
}

const short = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);

/** The logins of one reach are together, the worst first. */
function bandsOf(logins: MapLogin[]) {
  const bands: { state: State; from: number; count: number }[] = [];
  logins.forEach((l, n) => {
    const last = bands.at(-1);
    if (last?.state === l.reach) last.count++;
    else bands.push({ state: l.reach, from: n, count: 1 });
  });
  return bands;
}
