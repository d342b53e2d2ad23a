import { Button, Select, Tag } from "antd";
import { useState } from "react";
import type { Key } from "../../api/client";
import { useHolders, useKeys, useMe } from "../../api/queries";
import { day, typeText } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { EmptyNote } from "../../parts/EmptyNote";
import { KeyName } from "../../parts/KeyName";
import { Labels } from "../../parts/Labels";
import { PagedTable, orderOf } from "../../parts/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { SearchBox } from "../../parts/SearchBox";
import { usePlace } from "../../parts/usePlace";
import { MarkLost } from "./Loss";
import { NewKey } from "./NewKey";

const types = ["ed25519", "rsa", "ecdsa", "sk-ed25519", "sk-ecdsa"];

export default function Keys() {
  const { get, set } = usePlace();
  const me = useMe();
  const holders = useHolders();
  const [making, setMaking] = useState(false);
  const filter = { q: get("q"), sort: get("sort"), type: get("type"), holder: get("holder"), label: get("label") };
  const pages = useKeys(filter);
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
      <div className="row middle many after-m">
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
      </div>
      <PagedTable<Key>
        plain
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
            sorter: true,
            sortOrder: orderOf("name", filter.sort),
            render: (_, k) => <KeyName name={k.name} sha256={k.fingerprints.sha256} />,
          },
          {
            title: "Type",
            key: "type",
            render: (_, k) => <span className="nowrap">{typeText(k.type, k.bits)}</span>,
          },
          {
            title: "Holder",
            key: "holder",
            render: (_, k) => (
              <span title={k.holder?.title}>{k.steward ? "the service's own" : (k.holder?.name ?? "nobody")}</span>
            ),
          },
          {
            title: "Opens",
            dataIndex: "opens",
            align: "right",
            render: (n: number) => (n === 0 ? "nothing" : `${n} login${n === 1 ? "" : "s"}`),
          },
          { title: "Purpose", dataIndex: "purpose" },
          { title: "Labels", key: "labels", render: (_, k) => <Labels labels={k.labels} list="/keys" /> },
          {
            title: "Recorded",
            key: "created",
            sorter: true,
            sortOrder: orderOf("created", filter.sort),
            render: (_, k) => <span className="nowrap">{day(k.created_at)}</span>,
          },
          {
            title: "SHA-256",
            key: "sha256",
            render: (_, k) => (
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
