import { Alert, Button, Card, Select, Tag } from "antd";
import { useState, type ReactNode } from "react";
import { Link, useParams } from "react-router";
import type { RouteOption, Routes as RoutesOf } from "../../api/client";
import { useMe, useRoutes } from "../../api/queries";
import { spanText } from "../../format";
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
      <div className="row gap-xl middle many after-m">
        <span>
          {r.instance} is <StateMark state={r.state} />
        </span>
        {r.lost.length > 0 && (
          <span>
            Keys nobody can use:{" "}
            {r.lost.map((k, n) => (
              <span key={k.name}>
                {n > 0 && ", "}
                <Link to={`/keys/${encodeURIComponent(k.name)}`}>{k.name}</Link>
                {k.holder && ` of ${k.holder}`}
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
      <div className="row gap-l middle many after-m" aria-label="Limits" role="group">
        <strong>Limits</strong>
        {toggle("no_stop", "nothing stops")}
        {toggle("keep_address", "the address stays")}
        <Select
          allowClear
          placeholder="any downtime"
          aria-label="Longest downtime"
          className="field-m"
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
          className="after-m"
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
    <ul className="list">
      {of.map((t) => (
        <li key={t}>{t}</li>
      ))}
    </ul>
  );
}

function Comparison({ of, may, choose }: { of: RouteOption[]; may: boolean; choose: (o: RouteOption) => void }) {
  const side = (n: number) => (n === 0 ? "first" : undefined);
  return (
    <Card size="small" styles={{ body: { padding: 0, overflowX: "auto" } }}>
      <table className="compared" style={{ minWidth: 150 + of.length * 190 }}>
        <caption className="unseen">The possible ways back in, the best first</caption>
        <colgroup>
          <col className="field-s" />
          {of.map((o) => (
            <col key={o.route} />
          ))}
        </colgroup>
        <thead>
          <tr>
            <td />
            {of.map((o, n) => (
              <th key={o.route} scope="col" className={side(n)}>
                <div className="row baseline many">
                  <span className="figure quiet">{n + 1}</span>
                  <span className="figure small">{o.title}</span>
                  {!o.within_limits && (
                    <Tag color="error" className="flush">
                      outside your limits
                    </Tag>
                  )}
                </div>
                <div className="compared-about">{o.summary}</div>
                {may && (
                  <Button
                    type={n === 0 && o.within_limits ? "primary" : "default"}
                    disabled={!o.within_limits}
                    block
                    onClick={() => choose(o)}
                    aria-label={`Take this way: ${o.title}`}
                  >
                    Take this way
                  </Button>
                )}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          <tr>
            <th scope="row">Why here</th>
            {of.map((o, n) => (
              <td key={o.route} className={side(n)}>
                {n === 0 ? o.why : `it ${o.why}`}
              </td>
            ))}
          </tr>
          {rows.map((row) => (
            <tr key={row.title}>
              <th scope="row">{row.title}</th>
              {of.map((o, n) => {
                const { weigh, what } = row.of(o);
                return (
                  <td key={o.route} className={side(n)}>
                    <div className="columns sign-text gap-xs">
                      <span aria-hidden className={weigh}>
                        {signs[weigh]}
                      </span>
                      <div className={weigh === "bad" ? "bad strong" : undefined}>{what}</div>
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
    <Card size="small" title="Rehearsed just now, without touching anything" className="before-l">
      <ul className="bare-list stack gap-s">
        {of.rehearsed.map((h) => (
          <li key={h.route} className="columns when-who-what gap-m">
            <StateMark state={h.works ? "works" : "not seen"} />
            <strong className="strong">{of.routes.find((o) => o.route === h.route)?.title}</strong>
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
  return (
    <Card size="small" title="Not possible as things are, and what would make it so" className="before-l">
      <dl className="facts">
        {of.map((o) => [
          <dt key={o.route} className="strong">
            {o.title}
          </dt>,
          <dd key={`${o.route} missing`} className="flush">
            {o.missing.map((m) => (
              <div key={m.what}>
                {m.what}
                {m.remedy && <span className="quiet">. {m.remedy}</span>}
              </div>
            ))}
          </dd>,
        ])}
      </dl>
    </Card>
  );
}
