import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Input, Modal, Select, Table } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Difference, type Settlement } from "../../api/client";
import { counted, day } from "../../format";
import { KeyGlyph } from "../../parts/KeyGlyph";
import { KeyName } from "../../parts/KeyName";
import type { Column } from "../../parts/list/column";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";

export type Choice = Difference["choices"][number];

/** What a choice does, in words. */
export const choiceWords: Record<Choice, string> = {
  place: "place its line",
  withdraw: "withdraw its grant",
  remove: "remove its line",
  accept: "accept as granted",
};

const needsMeans = (c: Choice) => c === "place" || c === "remove";
export const idOf = (d: Difference) => `${d.login} ${d.sha256}`;

/** What was chosen for each difference, and how something is. */
export function useChoices(rows: Difference[]) {
  const [chosen, setChosen] = useState<Record<string, Choice | undefined>>({});
  const choose = (ds: Difference[], c: Choice | undefined) =>
    setChosen((old) => ({
      ...old,
      ...Object.fromEntries(
        ds.filter((d) => !c || (d.choices.includes(c) && !(needsMeans(c) && d.no_means))).map((d) => [idOf(d), c]),
      ),
    }));
  const picked = rows.flatMap((d) => {
    const choice = chosen[idOf(d)];
    return choice ? [{ ...d, choice }] : [];
  });
  return { chosen, choose, picked, clear: () => setChosen({}) };
}

export const differenceColumns = (
  may: boolean,
  chosen: Record<string, Choice | undefined>,
  choose: (ds: Difference[], c: Choice | undefined) => void,
): Column<Difference>[] => [
  {
    title: "Login",
    key: "login",
    text: (d) => d.login,
    render: (d) => <Link to={`/logins/${encodeURIComponent(d.login)}`}>{d.login}</Link>,
  },
  { title: "Status", key: "status", text: (d) => d.status, render: (d) => <StateMark state={d.status} /> },
  {
    title: "Key",
    key: "key",
    text: (d) => (d.status === "stranger" ? `${d.name} ${d.sha256}` : d.name),
    render: (d) => (d.status === "stranger" ? <Stranger of={d} /> : <KeyName name={d.name} sha256={d.sha256} />),
  },
  { title: "Holder", key: "holder", text: (d) => (d.status === "stranger" ? "" : (d.holder ?? "nobody")) },
  {
    title: "Since",
    key: "since",
    text: (d) => (d.since ? `${d.status === "missing" ? "granted" : "first seen"} ${day(d.since)}` : undefined),
  },
  { title: "Last reading", key: "seen", text: (d) => (d.seen_at ? day(d.seen_at) : "") },
  {
    title: "What to do",
    key: "choice",
    render: (d) =>
      may && (
        <Select
          allowClear
          placeholder="leave it"
          aria-label={`What to do about ${d.name} in ${d.login}`}
          className="field-m"
          value={chosen[idOf(d)]}
          onChange={(c: Choice | undefined) => choose([d], c)}
          options={d.choices.map((c) => ({
            value: c,
            label: choiceWords[c],
            disabled: needsMeans(c) && Boolean(d.no_means),
            title: needsMeans(c) ? d.no_means : undefined,
          }))}
        />
      ),
  },
];

function Stranger({ of }: { of: Difference }) {
  return (
    <span className="inline middle">
      <KeyGlyph sha256={of.sha256} />
      {of.name || "no comment"}{" "}
      <code className="small" title={of.sha256}>
        {of.sha256.slice(0, 23)}…
      </code>
    </span>
  );
}

/** Says what will be done, does it, and says what came of it. */
export function Confirm({ of, close }: { of: (Difference & { choice: Choice })[]; close: () => void }) {
  const [reason, setReason] = useState("");
  const queries = useQueryClient();
  const settle = useMutation({
    mutationFn: () =>
      take(
        api.POST("/drift/settlements", {
          body: {
            reason: reason || undefined,
            choices: of.map((d) => ({ login: d.login, sha256: d.sha256, status: d.status, choice: d.choice })),
          },
        }),
      ),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["reach"] }),
  });
  const counts = (Object.keys(choiceWords) as Choice[])
    .map((c) => ({ c, n: of.filter((d) => d.choice === c).length }))
    .filter((x) => x.n > 0);
  const done = settle.data;
  return (
    <Modal
      open
      width={760}
      title={done ? "What came of it" : `Settle ${counted(of.length, "difference")}?`}
      onCancel={close}
      onOk={() => (done ? close() : settle.mutate())}
      okText={done ? "Close" : "Settle them"}
      confirmLoading={settle.isPending}
      okButtonProps={{ danger: !done && of.some((d) => d.choice === "remove") }}
      cancelButtonProps={{ style: done ? { display: "none" } : undefined }}
      cancelText="Leave them"
      afterClose={() => void queries.invalidateQueries({ queryKey: ["reach"] })}
    >
      {done ? (
        <Outcome of={done} />
      ) : (
        <>
          <ul className="list">
            {counts.map(({ c, n }) => (
              <li key={c}>
                {choiceWords[c]}: {n}
              </li>
            ))}
          </ul>
          {of.some((d) => needsMeans(d.choice)) && (
            <p>
              Lines are changed in one run for each login, which takes back what it did if it fails. All other lines
              stay byte for byte.
            </p>
          )}
          {of.some((d) => d.choice === "remove") && (
            <Alert
              type="warning"
              showIcon
              className="after-m"
              title="Anyone who has only a removed key can no longer log in."
            />
          )}
          <p>
            <label htmlFor="settle-reason">Why, for the daybook</label>
            <Input id="settle-reason" value={reason} onChange={(e) => setReason(e.target.value)} />
          </p>
        </>
      )}
      {settle.error && <ProblemNote error={settle.error} />}
    </Modal>
  );
}

function Outcome({ of }: { of: Settlement }) {
  return (
    <Table
      size="small"
      rowKey={(i) => `${i.login} ${i.sha256}`}
      dataSource={of.items}
      pagination={false}
      scroll={{ y: 320 }}
      columns={[
        { title: "Login", dataIndex: "login" },
        { title: "Key", dataIndex: "name" },
        { title: "Choice", dataIndex: "choice" },
        {
          title: "Outcome",
          render: (_, i) =>
            i.run ? <Link to={`/runs/${i.run}`}>in a run: watch it</Link> : i.state + (i.detail ? `: ${i.detail}` : ""),
        },
      ]}
    />
  );
}
