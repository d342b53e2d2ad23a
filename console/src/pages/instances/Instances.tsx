import { Button, Select, Tag } from "antd";
import { Link } from "react-router";
import type { Instance } from "../../api/client";
import { useClouds, useInstances, useMe } from "../../api/queries";
import { day } from "../../format";
import { labelsText } from "../../labels";
import { EmptyNote } from "../../parts/EmptyNote";
import { Labels } from "../../parts/Labels";
import { PagedTable } from "../../parts/list/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { SearchBox } from "../../parts/SearchBox";
import { SweepButton } from "../../parts/SweepButton";
import { StateMark } from "../../parts/StateMark";
import { usePlace } from "../../parts/usePlace";

const launchedText = (i: Instance) =>
  `${i.brought_in ? "brought in " : i.adopted ? "adopted " : ""}${day(i.created_at)} by ${i.created_by}`;

const states = ["running", "stopped", "launching", "failed"];

export default function Instances() {
  const { get, set } = usePlace();
  const me = useMe();
  const clouds = useClouds();
  const filter = {
    q: get("q"),
    sort: get("sort"),
    cloud: get("cloud"),
    via: get("via"),
    region: get("region"),
    state: get("state"),
    label: get("label"),
  };
  const pages = useInstances(filter);
  const mayLaunch = me.data?.role !== "viewer";
  const outside = clouds.data?.reduce((n, c) => n + c.not_recorded, 0) ?? 0;
  const narrowed = Object.values(filter).some(Boolean);
  const launch = mayLaunch && (
    <>
      {outside > 0 && (
        <Link to="/bring-in">
          <Button>{outside} not yet recorded</Button>
        </Link>
      )}{" "}
      <Link to="/adopt">
        <Button>Adopt machines</Button>
      </Link>{" "}
      <Link to="/launch">
        <Button type="primary">Launch an instance</Button>
      </Link>
    </>
  );
  const regions = [...new Set(clouds.data?.flatMap((c) => c.zones.map((z) => z.region)) ?? [])];
  return (
    <>
      <PageHead title="Instances">{launch}</PageHead>
      <PagedTable<Instance>
        filters={
          <>
            <SearchBox value={filter.q ?? ""} change={(v) => set("q", v)} hint="Name or address" />
            {filter.via && (
              <Tag closable onClose={() => set("via", undefined)}>
                by way of {filter.via}
              </Tag>
            )}
            {(clouds.data?.length ?? 0) > 1 && (
              <Select
                allowClear
                placeholder="Cloud"
                aria-label="Cloud"
                className="field-s"
                value={filter.cloud}
                onChange={(v) => set("cloud", v)}
                options={clouds.data?.map((c) => ({ value: c.name, label: c.name }))}
              />
            )}
            <Select
              allowClear
              placeholder="Region"
              aria-label="Region"
              className="field-s"
              value={filter.region}
              onChange={(v) => set("region", v)}
              options={regions.map((r) => ({ value: r, label: r }))}
            />
            <Select
              allowClear
              placeholder="State"
              aria-label="State"
              className="field-s"
              value={filter.state}
              onChange={(v) => set("state", v)}
              options={states.map((v) => ({ value: v, label: v }))}
            />
            {filter.label && (
              <Tag closable onClose={() => set("label", undefined)}>
                label {filter.label}
              </Tag>
            )}
          </>
        }
        acts={mayLaunch ? (rows) => <SweepButton instances={rows.map((i) => i.name)} text="Sweep them" /> : undefined}
        nameOf={(i) => i.name}
        order={filter.sort}
        pages={pages}
        noun="instance"
        rowKey={(i) => i.id}
        sort={(s) => set("sort", s)}
        empty={
          narrowed ? (
            <EmptyNote text="No instance matches." />
          ) : (
            <EmptyNote
              text={
                "There is no instance yet. Launch the first, with a key that can be made on the way, " +
                "or adopt machines that are there."
              }
            >
              {launch}
            </EmptyNote>
          )
        }
        columns={[
          {
            title: "Name",
            key: "name",
            sorts: true,
            text: (i) => i.name,
            render: (i) => <Link to={`/instances/${encodeURIComponent(i.name)}`}>{i.name}</Link>,
          },
          { title: "State", key: "state", text: (i) => i.state, render: (i) => <StateMark state={i.state} /> },
          { title: "Keys", key: "keys", align: "right", text: (i) => (i.keys === 0 ? "none" : i.keys) },
          { title: "Login user", key: "user", text: (i) => i.connection.user },
          {
            title: "Address",
            key: "address",
            text: (i) =>
              (i.connection.address || "none") +
              (i.connection.via ? ", by way of a jump host" : i.static_address ? ", static" : ""),
          },
          { title: "Image", key: "image", text: (i) => i.image },
          { title: "Cloud", key: "cloud", text: (i) => i.cloud || "none" },
          { title: "Region", key: "region", text: (i) => i.region },
          {
            title: "Labels",
            key: "labels",
            text: (i) => labelsText(i.labels),
            render: (i) => <Labels labels={i.labels} list="/instances" />,
          },
          {
            title: "Launched",
            key: "created",
            sorts: true,
            text: launchedText,
            render: (i) => <span className="nowrap">{launchedText(i)}</span>,
          },
        ]}
      />
    </>
  );
}
