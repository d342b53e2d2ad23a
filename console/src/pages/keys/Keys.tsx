import { Button, Select, Tag } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Key } from "../../api/client";
import { useHolders, useKeys, useMe } from "../../api/queries";
import { counted, day, typeText } from "../../format";
import { labelsText } from "../../labels";
import { CopyText } from "../../parts/CopyText";
import { EmptyNote } from "../../parts/EmptyNote";
import { KeyName } from "../../parts/KeyName";
import { Labels } from "../../parts/Labels";
import { PagedTable } from "../../parts/list/PagedTable";
import { ProveButton } from "../../parts/Prove";
import { StateMark } from "../../parts/StateMark";
import { Toggle } from "../../parts/Toggle";
import { PageHead } from "../../parts/PageHead";
import { SearchBox } from "../../parts/SearchBox";
import { usePlace } from "../../parts/usePlace";
import { MarkLost } from "./Loss";
import { NewKey } from "./NewKey";

const holderOf = (k: Key) => (k.steward ? "the service's own" : (k.holder?.name ?? "nobody"));

const types = ["ed25519", "rsa", "ecdsa", "sk-ed25519", "sk-ecdsa"];

export default function Keys() {
  const { get, set } = usePlace();
  const me = useMe();
  const holders = useHolders();
  const [making, setMaking] = useState(false);
  const filter = { q: get("q"), sort: get("sort"), type: get("type"), holder: get("holder"), label: get("label") };
  const own = get("own");
  const pages = useKeys({ ...filter, own: own === "true" ? undefined : "false" });
  const make = me.data?.role !== "viewer" && (
    <Button type="primary" onClick={() => setMaking(true)}>
      New key
    </Button>
  );
  const lost = filter.holder && (me.data?.role === "admin" || filter.holder === me.data?.name) && (
    <MarkLost of={{ holder: filter.holder }} text="All of them are lost" />
  );
  const narrowed = Object.values(filter).some(Boolean);
  return (
    <>
      <PageHead title="Key pairs">
        {lost}
        {make}
      </PageHead>
      <PagedTable<Key>
        filters={
          <>
            <SearchBox value={filter.q ?? ""} change={(v) => set("q", v)} hint="Name, comment or purpose" />
            <Select
              allowClear
              placeholder="Type"
              aria-label="Type"
              className="field-s"
              value={filter.type}
              onChange={(v) => set("type", v)}
              options={types.map((t) => ({ value: t, label: t }))}
            />
            <Select
              allowClear
              showSearch
              placeholder="Holder"
              aria-label="Holder"
              className="field-m"
              value={filter.holder}
              onChange={(v) => set("holder", v)}
              options={holders.data?.map((k) => ({ value: k.name, label: k.name }))}
            />
            {filter.label && (
              <Tag closable onClose={() => set("label", undefined)}>
                label {filter.label}
              </Tag>
            )}
            <Toggle on={own === "true"} change={(to) => set("own", to)}>
              the service’s own too
            </Toggle>
          </>
        }
        acts={(rows) => (
          <>
            {me.data?.role !== "viewer" && (
              <Link to={`/rotations/plan?${rows.map((k) => `key=${encodeURIComponent(k.name)}`).join("&")}`}>
                <Button>Rotate them</Button>
              </Link>
            )}
            <ProveButton text="Prove them" among={rows.map((k) => k.name)} />
          </>
        )}
        nameOf={(k) => k.name}
        order={filter.sort}
        pages={pages}
        noun="key"
        rowKey={(k) => k.id}
        sort={(s) => set("sort", s)}
        empty={
          narrowed ? (
            <EmptyNote text="No key matches." />
          ) : (
            <EmptyNote
              text={
                "There is no key yet. Make a pair on your own machine, or import the public key of one " +
                "that you have."
              }
            >
              {make}
            </EmptyNote>
          )
        }
        columns={[
          {
            title: "Name",
            key: "name",
            sorts: true,
            text: (k) => k.name,
            render: (k) => <KeyName name={k.name} sha256={k.fingerprints.sha256} />,
          },
          {
            title: "Type",
            key: "type",
            text: (k) => typeText(k.type, k.bits),
            render: (k) => <span className="nowrap">{typeText(k.type, k.bits)}</span>,
          },
          {
            title: "Holder",
            key: "holder",
            text: holderOf,
            render: (k) => <span title={k.holder?.title}>{holderOf(k)}</span>,
          },
          {
            title: "Opens",
            key: "opens",
            align: "right",
            text: (k) => (k.opens === 0 ? "nothing" : counted(k.opens, "login")),
          },
          { title: "Purpose", key: "purpose", text: (k) => k.purpose },
          {
            title: "State",
            key: "state",
            extra: true,
            text: (k) => k.state,
            render: (k) => <StateMark state={k.state} />,
          },
          { title: "Comment", key: "comment", extra: true, text: (k) => k.comment },
          { title: "Custody", key: "custody", extra: true, text: (k) => k.custody },
          {
            title: "Last proved",
            key: "proved",
            extra: true,
            text: (k) => (k.proved_at ? day(k.proved_at) : "never"),
          },
          {
            title: "Labels",
            key: "labels",
            text: (k) => labelsText(k.labels),
            render: (k) => <Labels labels={k.labels} list="/keys" />,
          },
          {
            title: "Recorded",
            key: "created",
            sorts: true,
            text: (k) => day(k.created_at),
            render: (k) => <span className="nowrap">{day(k.created_at)}</span>,
          },
          {
            title: "SHA-256",
            key: "sha256",
            text: (k) => k.fingerprints.sha256,
            render: (k) => (
              <CopyText
                text={k.fingerprints.sha256}
                shown={`${k.fingerprints.sha256.slice(0, 23)}…`}
                label="fingerprint"
              />
            ),
          },
        ]}
      />
      {making && <NewKey close={() => setMaking(false)} />}
    </>
  );
}
