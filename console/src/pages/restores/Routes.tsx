import { Alert, Button, Card, Select, Tag, theme } from "antd";
import { useState, type ReactNode } from "react";
import { Link, useParams } from "react-router";
import type { RouteOption, Routes as RoutesOf } from "../../api/client";
import { useMe, useRoutes } from "../../api/queries";
import { spanText } from "../../format";
import { useTones } from "../../look";
import { CopyText } from "../../parts/CopyText";
import { Labels } from "../../parts/Labels";
import { Loading } from "../../parts/Loading";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";
import { usePlace } from "../../parts/usePlace";
import { StartDialog } from "./StartDialog";
import { Toggle } from "../../parts/Toggle";

/** The ways back into one login side by side, the best first, each with all that it costs. */
export default function Routes() {
  const { name = "" } = useParams();
  const { get, set } = usePlace();
  const limits = {
    max_downtime: get("max_downtime"),
    keep_address: get("keep_address"),
    no_stop: get("no_stop"),
    rehearse: get("rehearse"),
  };
  const routes = useRoutes(name, limits);
  const me = useMe();
  const [chosen, setChosen] = useState<RouteOption>();
  if (routes.error) return <ProblemNote error={routes.error} again={() => void routes.refetch()} />;
  if (!routes.data) return <Loading />;
  const r = routes.data;
  const possible = r.routes.filter((o) => o.possible);
  const missing = r.routes.filter((o) => !o.possible);
  const may = Boolean(me.data && me.data.role !== "viewer");
  const toggle = (limit: "keep_address" | "no_stop", text: string) => (
    <Toggle on={limits[limit] === "true"} change={(to) => set(limit, to)}>
      {text}
    </Toggle>
  );
  return (
    <>
      <PageHead title={`Ways back into ${r.login}`} note={<StateMark state={r.reach} />}>
        <Link to={`/logins/${encodeURIComponent(r.login)}`}>
          <Button>The login</Button>
        </Link>
        <Button
          loading={routes.isFetching && limits.rehearse === "true"}
          onClick={() => (limits.rehearse ? void routes.refetch() : set("rehearse", "true"))}
        >
          Rehearse them
        </Button>
      </PageHead>
      <div style={{ display: "flex", gap: "4px 24px", flexWrap: "wrap", marginBottom: 12, alignItems: "center" }}>
        <span>
          {r.instance} is <StateMark state={r.state} />
        </span>
        {r.lost.length > 0 && (
          <span>
            Nobody can use any more:{" "}
            {r.lost.map((k, n) => (
              <span key={k.name}>
                {n > 0 && ", "}
                <Link to={`/keys/${encodeURIComponent(k.name)}`}>{k.name}</Link>
                {k.keeper && ` of ${k.keeper}`}
              </span>
            ))}
          </span>
        )}
        {Object.keys(r.labels).length > 0 && (
          <span>
            Runs there: <Labels labels={r.labels} list="/instances" />
          </span>
        )}
      </div>
      <div
        style={{ display: "flex", gap: 20, flexWrap: "wrap", marginBottom: 14, alignItems: "center" }}
        aria-label="Limits"
        role="group"
      >
        <strong>Limits</strong>
        {toggle("no_stop", "nothing stops")}
        {toggle("keep_address", "the address stays")}
        <Select
          allowClear
          placeholder="any downtime"
          aria-label="Longest downtime"
          style={{ width: 170 }}
          value={limits.max_downtime}
          onChange={(v) => set("max_downtime", v)}
          options={[
            ["10", "down 10 s at most"],
            ["60", "down 1 min at most"],
            ["300", "down 5 min at most"],
            ["1800", "down 30 min at most"],
          ].map(([value, label]) => ({ value, label }))}
        />
      </div>
      {r.worry && (
        <Alert
          type="warning"
          showIcon
          style={{ marginBottom: 14 }}
          title={`As things are, ${r.worry}.`}
          description={
            r.reach !== "shut" && (
              <>
                Mend it while somebody gets in: a steward key makes it seconds.{" "}
                <CopyText text={`plumlatch instance steward ${r.instance} -with FILE`} label="command" />
              </>
            )
          }
        />
      )}
      {possible.length > 0 ? (
        <Comparison of={possible} may={may} choose={setChosen} />
      ) : (
        <Alert
          type="error"
          showIcon
          title="No way back in is possible as things are. What is missing for each is below."
        />
      )}
      {r.rehearsed.length > 0 && <Rehearsed of={r} />}
      {missing.length > 0 && <Missing of={missing} />}
      {chosen && <StartDialog routes={r} option={chosen} limits={limits} close={() => setChosen(undefined)} />}
    </>
  );
}

type Weigh = "good" | "warn" | "bad" | "off";

/** One thing by which routes are compared: what it is, and how good that is. */
const rows: { title: string; of: (o: RouteOption) => { weigh: Weigh; what: ReactNode } }[] = [
  {
    title: "Stops it",
    of: (o) =>
      o.new_identity
        ? { weigh: "bad", what: "another machine takes its place" }
        : o.stops
          ? { weigh: "bad", what: `for about ${spanText(o.downtime_seconds)}` }
          : { weigh: "good", what: "nothing stops" },
  },
  {
    title: "Takes",
    of: (o) => ({
      weigh: o.expected_seconds < 30 ? "good" : o.expected_seconds < 200 ? "warn" : "bad",
      what: (
        <>
          about {spanText(o.expected_seconds)}
          {!o.measured && <> (partly assumed)</>}
        </>
      ),
    }),
  },
  {
    title: "Is lost",
    of: (o) => (o.loses.length ? { weigh: "bad", what: <List of={o.loses} /> } : { weigh: "good", what: "nothing" }),
  },
  {
    title: "Address",
    of: (o) => (o.new_address ? { weigh: "warn", what: "changes" } : { weigh: "good", what: "stays" }),
  },
  {
    title: "Is different after",
    of: (o) =>
      o.changes.length ? { weigh: "warn", what: <List of={o.changes} /> } : { weigh: "good", what: "nothing" },
  },
  {
    title: "Opened meanwhile",
    of: (o) =>
      o.opens.length
        ? { weigh: "warn", what: <List of={o.opens.map((e) => `${e.what}, ${spanText(e.seconds)} at most`)} /> }
        : { weigh: "good", what: "nothing" },
  },
  {
    title: "Left in place",
    of: (o) => (o.stays.length ? { weigh: "warn", what: <List of={o.stays} /> } : { weigh: "good", what: "nothing" }),
  },
  {
    title: "Who else",
    of: (o) => (o.agree.length ? { weigh: "warn", what: <List of={o.agree} /> } : { weigh: "good", what: "nobody" }),
  },
  { title: "Can be undone", of: (o) => ({ weigh: "off", what: o.undo }) },
];

const signs: Record<Weigh, string> = { good: "●", warn: "◆", bad: "▲", off: "↶" };

function List({ of }: { of: string[] }) {
  return of.length === 1 ? (
    <>{of[0]}</>
  ) : (
    <ul style={{ margin: 0, paddingInlineStart: 16 }}>
      {of.map((t) => (
        <li key={t}>{t}</li>
      ))}
    </ul>
  );
}

function Comparison({ of, may, choose }: { of: RouteOption[]; may: boolean; choose: (o: RouteOption) => void }) {
  const { token } = theme.useToken();
  const tones = useTones();
  const line = `1px solid ${token.colorBorderSecondary}`;
  const side = (n: number) => ({
    padding: "8px 14px",
    borderInlineStart: line,
    verticalAlign: "top",
    background: n === 0 ? token.colorFillQuaternary : undefined,
    fontWeight: 400,
    textAlign: "start" as const,
  });
  return (
    <Card size="small" styles={{ body: { padding: 0, overflowX: "auto" } }}>
      <table
        style={{ width: "100%", borderCollapse: "collapse", tableLayout: "fixed", minWidth: 150 + of.length * 190 }}
      >
        <caption style={{ position: "absolute", left: -9999 }}>The possible ways back in, the best first</caption>
        <colgroup>
          <col style={{ width: 140 }} />
          {of.map((o) => (
            <col key={o.route} />
          ))}
        </colgroup>
        <thead>
          <tr>
            <td />
            {of.map((o, n) => (
              <th key={o.route} scope="col" style={{ ...side(n), paddingTop: 12 }}>
                <div style={{ display: "flex", gap: 8, alignItems: "baseline", flexWrap: "wrap" }}>
                  <span style={{ fontSize: 20, fontWeight: 600, color: token.colorTextSecondary }}>{n + 1}</span>
                  <span style={{ fontSize: 16, fontWeight: 600 }}>{o.title}</span>
                  {!o.within_limits && (
                    <Tag color="error" style={{ margin: 0 }}>
                      outside your limits
                    </Tag>
                  )}
                </div>
                <div
                  style={{
                    color: token.colorTextSecondary,
                    fontSize: 12,
                    margin: "2px 0 8px",
                    minHeight: of.length > 3 ? 62 : undefined,
                  }}
                >
                  {o.summary}
                </div>
                {may && (
                  <Button
                    type={n === 0 && o.within_limits ? "primary" : "default"}
                    disabled={!o.within_limits}
                    block
                    onClick={() => choose(o)}
                    aria-label={`Take the way ${o.title}`}
                  >
                    Take this way
                  </Button>
                )}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          <tr style={{ borderTop: line }}>
            <th scope="row" style={{ padding: "8px 14px", textAlign: "start", verticalAlign: "top", fontWeight: 600 }}>
              Why here
            </th>
            {of.map((o, n) => (
              <td key={o.route} style={side(n)}>
                {n === 0 ? o.why : `it ${o.why}`}
              </td>
            ))}
          </tr>
          {rows.map((row) => (
            <tr key={row.title} style={{ borderTop: line }}>
              <th
                scope="row"
                style={{ padding: "8px 14px", textAlign: "start", verticalAlign: "top", fontWeight: 600 }}
              >
                {row.title}
              </th>
              {of.map((o, n) => {
                const { weigh, what } = row.of(o);
                return (
                  <td key={o.route} style={side(n)}>
                    <div style={{ display: "grid", gridTemplateColumns: "16px 1fr", gap: 4 }}>
                      <span aria-hidden style={{ color: tones[weigh] }}>
                        {signs[weigh]}
                      </span>
                      <div
                        style={{
                          color: weigh === "bad" ? tones.bad : undefined,
                          fontWeight: weigh === "bad" ? 600 : undefined,
                        }}
                      >
                        {what}
                      </div>
                    </div>
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </Card>
  );
}

function Rehearsed({ of }: { of: RoutesOf }) {
  return (
    <Card size="small" title="Rehearsed just now, without touching anything" style={{ marginTop: 16 }}>
      <ul style={{ listStyle: "none", margin: 0, padding: 0, display: "grid", gap: 6 }}>
        {of.rehearsed.map((h) => (
          <li key={h.route} style={{ display: "grid", gridTemplateColumns: "110px 150px 1fr", gap: 12 }}>
            <StateMark state={h.works ? "works" : "not seen"} />
            <strong style={{ fontWeight: 600 }}>{of.routes.find((o) => o.route === h.route)?.title}</strong>
            <span>
              {h.what}: {h.detail}
            </span>
          </li>
        ))}
      </ul>
    </Card>
  );
}

function Missing({ of }: { of: RouteOption[] }) {
  const { token } = theme.useToken();
  return (
    <Card size="small" title="Not possible as things are, and what would make it so" style={{ marginTop: 16 }}>
      <dl style={{ display: "grid", gridTemplateColumns: "150px 1fr", gap: "8px 16px", margin: 0 }}>
        {of.map((o) => [
          <dt key={o.route} style={{ fontWeight: 600 }}>
            {o.title}
          </dt>,
          <dd key={`${o.route} missing`} style={{ margin: 0 }}>
            {o.missing.map((m) => (
              <div key={m.what}>
                {m.what}
                {m.remedy && <span style={{ color: token.colorTextSecondary }}>. {m.remedy}</span>}
              </div>
            ))}
          </dd>,
        ])}
      </dl>
    </Card>
  );
}
