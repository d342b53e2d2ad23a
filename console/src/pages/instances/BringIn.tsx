import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Card, Checkbox, Form, Input, Modal, Select, Table, type TableColumnsType } from "antd";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { api, take, type BroughtIn, type CloudInstance } from "../../api/client";
import { useCloudInstances, useClouds, useMe } from "../../api/queries";
import { counted, day, moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { PagedTable } from "../../parts/list/PagedTable";
import { MoreChoices } from "../../parts/MoreChoices";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { SearchBox } from "../../parts/SearchBox";
import { StateMark } from "../../parts/StateMark";
import { useAct } from "../../parts/useAct";
import { usePlace } from "../../parts/usePlace";

const atOnce = 100;

/** What runs in a cloud and is not recorded here, to be brought in. */
export default function BringIn() {
  const { get, set } = usePlace();
  const clouds = useClouds();
  const cloud = get("cloud") ?? clouds.data?.find((c) => c.not_recorded > 0)?.name ?? clouds.data?.[0]?.name;
  const of = clouds.data?.find((c) => c.name === cloud);
  const q = get("q");
  const pages = useCloudInstances(cloud, q);
  const may = useMe().data?.role !== "viewer";
  const read = useAct(
    () => take(api.POST("/clouds/{cloud}/read", { params: { path: { cloud: cloud ?? "" } } })),
    "clouds",
  );
  const reading = Boolean(of?.read_wanted_at && (!of.read_tried_at || of.read_tried_at < of.read_wanted_at));
  return (
    <>
      <PageHead title="Not yet recorded" note="what runs in a cloud and was not launched here">
        {may && (
          <>
            <Button
              disabled={!cloud || Boolean(of?.paused_at)}
              loading={reading}
              onClick={() => read.mutate(undefined)}
            >
              Read the cloud now
            </Button>
          </>
        )}
      </PageHead>
      {read.error && <ProblemNote error={read.error} />}
      <PagedTable<CloudInstance>
        key={cloud}
        filters={
          <>
            <Select
              aria-label="Cloud"
              placeholder="Cloud"
              className="field-m"
              value={cloud}
              onChange={(v) => set("cloud", v)}
              options={clouds.data?.map((c) => ({ value: c.name, label: `${c.name} (${c.not_recorded})` }))}
            />
            <SearchBox value={q ?? ""} change={(v) => set("q", v)} hint="Name, address or id" />
            {of && (
              <span>
                {of.read_at ? `read ${moment(of.read_at)}` : "not read yet"}
                {of.read_failure && `; the last try failed: ${of.read_failure}`}
              </span>
            )}
          </>
        }
        acts={
          may && cloud
            ? (rows, clear) => <BringThem cloud={cloud} ids={rows.map((i) => i.cloud_id)} done={clear} />
            : undefined
        }
        nameOf={(i) => i.name || i.cloud_id}
        pages={pages}
        noun="instance"
        rowKey={(i) => i.cloud_id}
        empty={
          <EmptyNote
            text={cloud ? `All that runs in ${cloud} is recorded, as it was last read.` : "There is no cloud."}
          />
        }
        columns={[
          { title: "Name", key: "name", text: (i) => i.name || "(no name)" },
          { title: "Id", key: "id", text: (i) => i.cloud_id },
          { title: "State", key: "state", text: (i) => i.state, render: (i) => <StateMark state={i.state} /> },
          { title: "Image", key: "image", text: (i) => i.image },
          { title: "Zone", key: "zone", text: (i) => i.zone },
          {
            title: "Address",
            key: "address",
            text: (i) => [i.public_address, ...(i.other_addresses ?? [])].filter(Boolean).join(", "),
          },
          { title: "Key label", key: "label", text: (i) => i.key_label },
          { title: "Launched", key: "launched", text: (i) => (i.launched_at ? day(i.launched_at) : "") },
          { title: "First seen", key: "seen", text: (i) => day(i.first_seen) },
        ]}
      />
    </>
  );
}

/** Brings in what is chosen, after a look at what would be recorded. */
function BringThem({ cloud, ids, done }: { cloud: string; ids: string[]; done: () => void }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button type="primary" disabled={ids.length > atOnce} onClick={() => setOpen(true)}>
        Bring in {counted(ids.length, "instance")}
      </Button>
      {ids.length > atOnce && <span>At most {atOnce} at once.</span>}
      {open && <Preview cloud={cloud} ids={ids} close={() => setOpen(false)} done={done} />}
    </>
  );
}

interface How {
  login_user?: string;
  host_key?: string;
  via?: string;
  first_contact?: boolean;
  same_as?: string;
  reason?: string;
}

/** Shows what would become of each, and then what did. */
function Preview({ cloud, ids, close, done }: { cloud: string; ids: string[]; close: () => void; done: () => void }) {
  const queries = useQueryClient();
  const leave = () => {
    close();
    if (over) done();
  };
  const [rows, setRows] = useState<BroughtIn[]>();
  const [over, setOver] = useState(false);
  const [how, setHow] = useState<How>({});
  const send = useMutation({
    mutationFn: (preview: boolean) =>
      take(
        api.POST("/instances/brought-in", {
          body: {
            cloud,
            preview,
            login_user: how.login_user || undefined,
            via: how.via || undefined,
            first_contact: how.first_contact,
            reason: how.reason || undefined,
            instances: ids.map((is) => ({
              is,
              host_key: (ids.length === 1 && how.host_key) || undefined,
              same_as: (ids.length === 1 && how.same_as) || undefined,
            })),
          },
        }),
      ),
    onSuccess: (list, preview) => {
      setRows(list);
      if (preview) return;
      setOver(true);
      void queries.invalidateQueries();
    },
  });
  useEffect(() => {
    send.mutate(true);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- shown once by itself, and then when it is asked for
  }, []);
  const into = rows?.filter((r) => r.outcome === "brought-in" || r.outcome === "joined").length ?? 0;
  return (
    <Modal
      open
      width={1000}
      title={over ? `Brought in from ${cloud}` : `Bring in ${counted(ids.length, "instance")} of ${cloud}`}
      onCancel={leave}
      footer={
        over ? (
          <Button type="primary" onClick={leave}>
            Done
          </Button>
        ) : (
          <>
            <Button type={rows ? "default" : "primary"} loading={send.isPending} onClick={() => send.mutate(true)}>
              Show what would be recorded
            </Button>
            {rows && (
              <Button type="primary" disabled={into === 0} loading={send.isPending} onClick={() => send.mutate(false)}>
                Record {counted(into, "instance")}
              </Button>
            )}
          </>
        )
      }
    >
      {!over && (
        <Form<How> layout="vertical" onValuesChange={(_, v) => (setHow(v), setRows(undefined))}>
          <Form.Item name="reason" label="Reason, for the daybook">
            <Input />
          </Form.Item>
          <MoreChoices>
            <div className="row gap-l many">
              <Form.Item name="login_user" label="Log in as; the image's user unless given">
                <Input placeholder="debian" />
              </Form.Item>
              <Form.Item name="via" label="By way of the jump host; as the rules say unless given">
                <Input placeholder="gateway-1" />
              </Form.Item>
              {ids.length === 1 && (
                <>
                  <Form.Item name="host_key" label="The host key that it must have">
                    <Input placeholder="SHA256:…" className="code" />
                  </Form.Item>
                  <Form.Item name="same_as" label="The adopted machine that it is, with a new host key">
                    <Input placeholder="gauge-3" />
                  </Form.Item>
                </>
              )}
            </div>
            <Form.Item name="first_contact" valuePropName="checked">
              <Checkbox>Take host keys as a machine shows them where its cloud does not tell them</Checkbox>
            </Form.Item>
          </MoreChoices>
        </Form>
      )}
      {send.error && <ProblemNote error={send.error} />}
      {rows && (
        <Card size="small" styles={{ body: { padding: 0 } }}>
          <Table size="small" rowKey="is" pagination={false} dataSource={rows} columns={outcomes(over)} />
        </Card>
      )}
    </Modal>
  );
}

const outcomes = (over: boolean): TableColumnsType<BroughtIn> => [
  { title: "In the cloud", key: "is", render: (_, r) => r.called || r.is },
  {
    title: "Login",
    key: "login",
    render: (_, r) =>
      over && r.name ? (
        <Link to={`/instances/${encodeURIComponent(r.name)}`}>{r.login || r.name}</Link>
      ) : (
        r.login || r.name
      ),
  },
  { title: "What", key: "what", render: (_, r) => whatOf(r, over) },
  {
    title: "Host key",
    key: "key",
    render: (_, r) =>
      r.host_keys[0] && (
        <>
          <code>{r.host_keys[0]}</code>
          <div>from the {r.learnt}</div>
        </>
      ),
  },
];

function whatOf(r: BroughtIn, over: boolean) {
  switch (r.outcome) {
    case "brought-in":
      return over ? "is recorded" : "would be recorded";
    case "joined":
      return `is the adopted machine ${r.name}, which keeps its grants and gets its cloud`;
    case "was-there":
      return "was recorded before";
    case "left-out":
      return `left out: ${r.problem?.detail ?? ""}. ${r.problem?.remedy ?? ""}`;
  }
}
