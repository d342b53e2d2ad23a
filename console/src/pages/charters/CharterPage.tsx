import { diffLines } from "diff";
import { Button, Card, Form, Input, Progress, Select, Table } from "antd";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import {
  api,
  take,
  type CharterFile,
  type CharterSettlement,
  type CharterSettlementChange,
  type CharterVersion,
} from "../../api/client";
import {
  useCharter,
  useCharterComparison,
  useCharterVersion,
  useMe,
  useSettlementChanges,
  useSettlements,
} from "../../api/queries";
import { counted, moment } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { EmptyNote } from "../../parts/EmptyNote";
import { FormDialog } from "../../parts/FormDialog";
import { Loading } from "../../parts/Loading";
import { PagedTable } from "../../parts/list/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";
import { useAct } from "../../parts/useAct";
import { Comparison, kindWords, Where } from "./Comparison";

interface Why {
  reason?: string;
}

/** A charter: what differs now, its last settlement, its versions, and its files. */
export default function CharterPage() {
  const { name = "" } = useParams();
  const charter = useCharter(name);
  const comparison = useCharterComparison(name, Boolean(charter.data && charter.data.charter.version > 0));
  const settlement = useSettlements(name).data?.items[0];
  const may = useMe().data?.role !== "viewer";
  const [asks, setAsks] = useState<"undo" | "release">();
  const go = useNavigate();
  if (charter.error) return <ProblemNote error={charter.error} again={() => void charter.refetch()} />;
  if (!charter.data) return <Loading />;
  const { charter: c, files, versions } = charter.data;
  return (
    <>
      <PageHead title={c.name} note={c.note}>
        {may && (
          <>
            {settlement?.ended_at && !settlement.undoes && (
              <Button onClick={() => setAsks("undo")}>Undo the last settlement</Button>
            )}{" "}
            <Button danger onClick={() => setAsks("release")}>
              Release
            </Button>
          </>
        )}
      </PageHead>
      {settlement && (!settlement.ended_at || settlement.failed + settlement.left_out > 0) && (
        <Settlement of={settlement} may={may} />
      )}
      {comparison.error && <ProblemNote error={comparison.error} />}
      {comparison.isFetching && !comparison.data && <Loading />}
      {comparison.data && <Comparison of={comparison.data} />}
      <Card size="small" title="Versions" className="after-m" styles={{ body: { padding: 0 } }}>
        <Table<CharterVersion>
          size="small"
          rowKey="number"
          pagination={false}
          dataSource={versions}
          columns={[
            {
              title: "Version",
              key: "number",
              render: (_, v) => (v.number === c.version ? <strong>{v.number}, which counts</strong> : v.number),
            },
            { title: "Settled", key: "settled", render: (_, v) => `${moment(v.settled_at)} by ${v.settled_by}` },
            ...(versions.some((v) => v.signed_by) ? [{ title: "Signed by", dataIndex: "signed_by" }] : []),
            { title: "Why", dataIndex: "reason" },
            {
              title: "SHA-256 of the files",
              key: "digest",
              render: (_, v) => <CopyText text={v.digest} shown={v.digest.slice(0, 16)} label="digest" />,
            },
          ]}
        />
      </Card>
      <Files now={files} name={name} versions={versions} version={c.version} />
      {asks && (
        <FormDialog<Why, unknown>
          title={asks === "undo" ? `Undo the last settlement of ${name}` : `Release ${name}`}
          act={asks === "undo" ? "Undo it" : "Release it"}
          danger
          stale="charters"
          close={() => setAsks(undefined)}
          done={() => asks === "release" && void go("/charters")}
          send={({ reason }) =>
            asks === "undo"
              ? take(api.POST("/charters/{charter}/undo", { params: { path: { charter: name } }, body: { reason } }))
              : take(api.DELETE("/charters/{charter}", { params: { path: { charter: name }, query: { reason } } }))
          }
        >
          <p>
            {asks === "undo"
              ? "What it placed is withdrawn, what it withdrew comes back as it was. The version before counts again."
              : `The ${counted(c.grants, "grant")} that it owns stay as they are, as if they had been made by hand.`}
          </p>
          <Form.Item name="reason" label="Reason, for the daybook">
            <Input maxLength={200} />
          </Form.Item>
        </FormDialog>
      )}
    </>
  );
}

/** A settlement that is under way, or whose changes have failed. */
function Settlement({ of: t, may }: { of: CharterSettlement; may: boolean }) {
  const changes = useSettlementChanges(t.id, t.ended_at ? "failed" : undefined, !t.ended_at);
  const over = t.done + t.failed + t.left_out;
  const pause = useAct(
    () =>
      take(
        api.POST("/charter-settlements/{settlement}/pause", {
          params: { path: { settlement: t.id } },
          body: { resume: t.state === "paused" },
        }),
      ),
    "charters",
  );
  return (
    <Card
      size="small"
      className="after-m"
      title={`Settlement of version ${t.version}, begun ${moment(t.created_at)} by ${t.requested_by}`}
      extra={
        may &&
        !t.ended_at && (
          <Button size="small" loading={pause.isPending} onClick={() => pause.mutate(undefined)}>
            {t.state === "paused" ? "Resume" : "Pause"}
          </Button>
        )
      }
    >
      <Progress
        aria-label="Changes that are over"
        percent={Math.round((over * 100) / Math.max(over + t.waiting + t.at_work, 1))}
        status={t.failed > 0 ? "exception" : undefined}
      />
      <PagedTable<CharterSettlementChange>
        pages={changes}
        noun="change"
        rowKey={(i) => [i.change.kind, i.change.key, i.change.login, i.change.instance].join(" ")}
        empty={<EmptyNote text="No change of this kind." />}
        wraps
        columns={[
          { title: "State", key: "state", text: (i) => i.state, render: (i) => <StateMark state={i.state} /> },
          { title: "Change", key: "kind", text: (i) => kindWords[i.change.kind] },
          { title: "Key", key: "key", text: (i) => i.change.key },
          { title: "Where", key: "where", render: (i) => <Where of={i.change} /> },
          { title: "Detail", key: "detail", text: (i) => i.detail },
        ]}
      />
    </Card>
  );
}

const whole = (files: CharterFile[]) =>
  files.length === 1 ? (files[0]?.content ?? "") : files.map((f) => `# ${f.path}\n${f.content}`).join("\n");

/** The files as they were settled, beside those of an earlier version. */
function Files({
  now,
  name,
  version,
  versions,
}: {
  now: CharterFile[];
  name: string;
  version: number;
  versions: CharterVersion[];
}) {
  const [against, setAgainst] = useState<number>();
  const other = useCharterVersion(name, against);
  const parts = against && other.data?.files ? diffLines(whole(other.data.files), whole(now)) : undefined;
  return (
    <Card
      size="small"
      title={
        against ? `Version ${version}, and what it changed since version ${against}` : `Files of version ${version}`
      }
      extra={
        <Select
          allowClear
          size="small"
          className="field-m"
          aria-label="Compare with a version"
          placeholder="Compare with a version"
          value={against}
          onChange={(v?: number) => setAgainst(v)}
          options={versions
            .filter((v) => v.number !== version)
            .map((v) => ({ value: v.number, label: `version ${v.number}` }))}
        />
      }
    >
      <pre className="code wraps">
        {parts?.map((p, n) => (
          <span key={n} className={p.added ? "good" : p.removed ? "bad" : undefined}>
            {p.value.replace(/^(?=.)/gm, p.added ? "+ " : p.removed ? "- " : "  ")}
          </span>
        )) ?? whole(now)}
      </pre>
    </Card>
  );
}
