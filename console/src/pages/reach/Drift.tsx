import { Button, Card, Segmented, Select } from "antd";
import { useState } from "react";
import type { Difference } from "../../api/client";
import { useDrift, useMe } from "../../api/queries";
import { counted } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { PagedTable } from "../../parts/list/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { SearchBox } from "../../parts/SearchBox";
import { usePlace } from "../../parts/usePlace";
import { ReachTabs } from "./ReachTabs";
import { choiceWords, Confirm, differenceColumns, idOf, useChoices, type Choice } from "./Settling";

/** Drift between grants and readings, settled one by one or all at once. */
export default function Drift() {
  const { get, set } = usePlace();
  const me = useMe();
  const filter = { login: get("login"), status: get("status"), label: get("label") };
  const pages = useDrift(filter);
  const [asking, setAsking] = useState(false);
  const may = Boolean(me.data && me.data.role !== "viewer");
  const { chosen, choose, picked, clear } = useChoices(pages.rows);
  return (
    <>
      <PageHead title="Drift" note="keys in place that differ from the grants, as of the last readings">
        {may && (
          <Button type="primary" disabled={picked.length === 0} onClick={() => setAsking(true)}>
            Settle {picked.length > 0 ? counted(picked.length, "difference") : "them"}
          </Button>
        )}
      </PageHead>
      <ReachTabs />
      <div className="row gap-m middle many after-m">
        <SearchBox
          value={filter.login ?? ""}
          change={(v) => set("login", v || undefined)}
          hint="Instance, or user@instance"
        />
        <Segmented
          value={filter.status ?? "all"}
          onChange={(v) => set("status", v === "all" ? undefined : v)}
          options={["all", "missing", "ungranted", "stranger"]}
        />
        {may &&
          (["missing", "ungranted", "stranger"] as const).map((status) => {
            const of = pages.rows.filter((d) => d.status === status);
            return (
              of.length > 1 && (
                <Select
                  key={status}
                  allowClear
                  placeholder={`All ${status}`}
                  aria-label={`For all ${status}`}
                  className="field-m"
                  onChange={(c: Choice | undefined) => choose(of, c)}
                  options={of[0]?.choices.map((c) => ({ value: c, label: choiceWords[c] }))}
                />
              )
            );
          })}
      </div>
      <Card size="small" styles={{ body: { padding: 0 } }}>
        <PagedTable<Difference>
          pages={pages}
          noun="difference"
          rowKey={idOf}
          columns={differenceColumns(may, chosen, choose)}
          empty={<EmptyNote text="No drift as of the last readings." />}
        />
      </Card>
      {asking && (
        <Confirm
          of={picked}
          close={() => {
            setAsking(false);
            clear();
          }}
        />
      )}
    </>
  );
}
