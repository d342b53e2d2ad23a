import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Card, Checkbox, Form, Input, Modal, Select, Table, type TableColumnsType } from "antd";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { api, take, type BroughtIn, type CloudInstance } from "../../api/client";
import { useCloudInstances, useClouds, useMe } from "../../api/queries";
import { counted, day, moment } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { PagedTable } from "../../parts/PagedTable";
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
  const [chosen, setChosen] = useState<string[]>([]);
  const [open, setOpen] = useState(false);
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
            </Button>{" "}
            <Button type="primary" disabled={chosen.length === 0} onClick={() => setOpen(true)}>
              Bring in {counted(chosen.length, "instance")}
            </Button>
          </>
        )}
      </PageHead>
      <div className="row middle many after-m">
        <Select
          aria-label="Cloud"
          placeholder="Cloud"
          className="field-m"
          value={cloud}
          onChange={(v) => {
            setChosen([]);
            set("cloud", v);
          }}
          options={clouds.data?.map((c) => ({ value: c.name, label: `${c.name} (${c.not_recorded})` }))}
        />
        <SearchBox value={q ?? ""} change={(v) => set("q", v)} hint="Name, address or id" />
        {of && (
          <span>
            {of.read_at ? `read ${moment(of.read_at)}` : "not read yet"}
            {of.read_failure && `; the last try failed: ${of.read_failure}`}
          </span>
        )}
      </div>
      {read.error && <ProblemNote error={read.error} />}
      <PagedTable<CloudInstance>
        pages={pages}
        noun="instance"
        rowKey={(i) => i.cloud_id}
        empty={
          <EmptyNote
            text={cloud ? `All that runs in ${cloud} is recorded, as it was last read.` : "There is no cloud."}
          />
        }
        columns={[
          ...(may ? [choice(pages.rows, chosen, setChosen)] : []),
          { title: "Name", key: "name", render: (_, i) => i.name || "(no name)" },
          { title: "Id", dataIndex: "cloud_id" },
          { title: "State", dataIndex: "state", render: (s: CloudInstance["state"]) => <StateMark state={s} /> },
          { title: "Image", dataIndex: "image" },
          { title: "Zone", dataIndex: "zone" },
          {
            title: "Address",
            key: "address",
            render: (_, i) => [i.public_address, ...(i.other_addresses ?? [])].filter(Boolean).join(", "),
          },
          { title: "Key label", dataIndex: "key_label" },
          { title: "Launched", key: "launched", render: (_, i) => (i.launched_at ? day(i.launched_at) : "") },
          { title: "First seen", key: "seen", render: (_, i) => day(i.first_seen) },
        ]}
      />
      {open && cloud && <Preview cloud={cloud} ids={chosen} close={() => setOpen(false)} done={() => setChosen([])} />}
    </>
  );
}

/** The column by which some are chosen, or all that are shown. */
function choice(
  rows: CloudInstance[],
  chosen: string[],
  choose: (ids: string[]) => void,
): TableColumnsType<CloudInstance>[number] {
  const shown = rows.slice(0, atOnce).map((i) => i.cloud_id);
  const all = shown.length > 0 && shown.every((id) => chosen.includes(id));
  return {
    key: "choice",
    width: 40,
    title: (
      <Checkbox
        aria-label="All that are shown"
        checked={all}
        indeterminate={!all && chosen.length > 0}
        onChange={(e) => choose(e.target.checked ? shown : [])}
      />
    ),
    render: (_, i) => (
      <Checkbox
        aria-label={`Choose ${i.name || i.cloud_id}`}
        checked={chosen.includes(i.cloud_id)}
        onChange={(e) =>
          choose(e.target.checked ? [...chosen, i.cloud_id].slice(0, atOnce) : chosen.filter((id) => id !== i.cloud_id))
        }
      />
    ),
  };
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
      done();
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
      onCancel={close}
      footer={
        over ? (
          <Button type="primary" onClick={close}>
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
            <Form.Item name="reason" label="Reason, for the daybook">
              <Input />
            </Form.Item>
          </div>
          <Form.Item name="first_contact" valuePropName="checked">
            <Checkbox>Take host keys as a machine shows them where its cloud does not tell them</Checkbox>
          </Form.Item>
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
