import { Alert, App, Button, DatePicker, Input, Tag } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Entry } from "../../api/client";
import { useDaybook, useLiveDaybook } from "../../api/queries";
import { moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { PagedTable } from "../../parts/list/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { OutcomeMark } from "../../parts/StateMark";
import { useAct } from "../../parts/useAct";
import { usePlace } from "../../parts/usePlace";

const fields = ["person", "key", "instance", "run", "action", "subject"] as const;

export default function Daybook() {
  const { get, set } = usePlace();
  const filter = {
    ...Object.fromEntries(fields.map((f) => [f, get(f)])),
    from: get("from"),
    until: get("until"),
  } as Record<(typeof fields)[number] | "from" | "until", string | undefined>;
  const live = get("live") === "true";
  const pages = useDaybook(filter);
  const streaming = useLiveDaybook(live, filter);
  const narrow = (field: (typeof fields)[number], value: string) => (
    <a
      href={`?${field}=${encodeURIComponent(value)}`}
      title={`Only this ${field}`}
      onClick={(e) => {
        e.preventDefault();
        set(field, value);
      }}
    >
      {value}
    </a>
  );
  const query = new URLSearchParams(
    Object.entries(filter).filter((e): e is [string, string] => Boolean(e[1])),
  ).toString();
  return (
    <>
      <PageHead title="Daybook" note="What was done, by whom, and what came of it. Newest first.">
        <Check />
        <Button href={`/api/v1/daybook/export?${query}`} download="daybook.jsonl">
          Export
        </Button>
        <Button
          type={live ? "primary" : "default"}
          aria-pressed={live}
          onClick={() => set("live", live ? undefined : "true")}
        >
          {live ? "● Following" : "Follow"}
        </Button>
      </PageHead>
      <div className="row middle many after-m">
        {fields.slice(0, 5).map((f) => (
          <Narrow key={`${f} ${filter[f] ?? ""}`} field={f} value={filter[f]} set={(v) => set(f, v)} />
        ))}
        <DatePicker.RangePicker
          aria-label="Time"
          showTime={{ format: "HH:mm" }}
          format="D MMM YYYY HH:mm"
          allowEmpty={[true, true]}
          placeholder={["From", "Until"]}
          onChange={(range) => {
            set("from", range?.[0]?.toISOString());
            set("until", range?.[1]?.toISOString());
          }}
        />
        {fields
          .filter((f) => filter[f])
          .map((f) => (
            <Tag key={f} closable onClose={() => set(f, undefined)}>
              {f} {filter[f]}
            </Tag>
          ))}
      </div>
      {streaming === "broken" && (
        <Alert type="warning" showIcon className="after-s" title="The connection was lost; reconnecting" />
      )}
      <PagedTable<Entry>
        pages={pages}
        wraps
        noun="entry"
        rowKey={(e) => String(e.seq)}
        empty={<EmptyNote text="No entry matches." />}
        columns={[
          {
            title: "No.",
            key: "seq",
            align: "right",
            text: (e) => e.seq,
            render: (e) => <span title={`hash ${e.hash ?? ""}`}>{e.seq}</span>,
          },
          {
            title: "When",
            key: "at",
            text: (e) => e.at,
            render: (e) => <span className="nowrap">{moment(e.at)}</span>,
          },
          { title: "By", key: "person", text: (e) => e.person, render: (e) => narrow("person", e.person) },
          { title: "Way", key: "via", text: (e) => e.via },
          {
            title: "Outcome",
            key: "outcome",
            text: (e) => e.outcome,
            render: (e) => <OutcomeMark outcome={e.outcome} />,
          },
          {
            title: "About",
            key: "subject",
            text: (e) => e.subject,
            render: (e) => (
              <span className="nowrap">
                {about(e, narrow)}
                {place(e)}
              </span>
            ),
          },
          {
            title: "What",
            key: "sentence",
            text: (e) => (e.why ? `${e.sentence} Why: ${e.why}` : e.sentence),
            render: (e) => (
              <span>
                {e.sentence}
                {e.why && <em> Why: {e.why}</em>}
              </span>
            ),
          },
        ]}
      />
    </>
  );
}

function Narrow({ field, value, set }: { field: string; value?: string; set: (v: string | undefined) => void }) {
  const [text, setText] = useState(value ?? "");
  const words: Record<string, string> = {
    person: "Person",
    key: "Key",
    instance: "Instance",
    run: "Run",
    action: "Kind, as in key.make",
  };
  return (
    <Input
      allowClear={{ clearIcon: <span aria-label="Clear">✕</span> }}
      aria-label={words[field]}
      placeholder={words[field]}
      className={field === "action" ? "field-m" : "field-s"}
      value={text}
      onChange={(e) => {
        setText(e.target.value);
        if (e.target.value === "") set(undefined);
      }}
      onPressEnter={() => set(text.trim() || undefined)}
      onBlur={() => set(text.trim() || undefined)}
    />
  );
}

/** Goes through the whole daybook and tells what came of it. */
function Check() {
  const { modal } = App.useApp();
  const check = useAct(
    () => take(api.POST("/daybook/check")),
    "daybook",
    (c) => {
      const open = c.can_change ? (
        <p>The database role of the service could change entries; give it one that owns no tables.</p>
      ) : null;
      const redacted =
        c.redacted.length > 0 ? (
          <p>
            The details of {c.redacted.length} entries were removed, since they held a private key:{" "}
            {c.redacted.slice(0, 10).join(", ")}
            {c.redacted.length > 10 ? ", …" : ""}.
          </p>
        ) : null;
      if (c.intact)
        modal.success({
          title: `All ${c.entries} entries are intact`,
          content: (
            <>
              <p className="anywhere">
                The hash of the last one: <code>{c.head}</code>
              </p>
              {redacted}
              {open}
            </>
          ),
          width: 560,
        });
      else
        modal.error({
          title: `Entry ${c.fault?.seq ?? ""} is not intact`,
          content: (
            <>
              <p>{c.fault?.what}.</p>
              {redacted}
              {open}
            </>
          ),
          width: 560,
        });
    },
  );
  return (
    <Button loading={check.isPending} onClick={() => check.mutate(undefined)}>
      Check
    </Button>
  );
}

function about(e: Entry, narrow: (field: "key" | "instance" | "subject", value: string) => React.ReactNode) {
  if (/^[0-9a-f-]{36}$/.test(e.subject)) return e.subject_kind;
  return narrow(e.subject_kind === "key" || e.subject_kind === "instance" ? e.subject_kind : "subject", e.subject);
}

function place(e: Entry) {
  const list = { key: "/keys", instance: "/instances", login: "/logins", rotation: "/rotations" }[e.subject_kind];
  return (
    list && (
      <Link
        to={`${list}/${encodeURIComponent(e.subject)}`}
        aria-label={`To ${e.subject_kind} ${e.subject}`}
        className="apart-start in-text"
      >
        →
      </Link>
    )
  );
}
