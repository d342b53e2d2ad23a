import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Card, Form, Input, InputNumber, Segmented, Table } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, problemOf, take, type ListedMachine, type ShownHostKey } from "../../api/client";
import { counted } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";

interface One {
  name: string;
  address: string;
  port?: number;
  login_user: string;
  via?: string;
}
interface Many {
  text: string;
  login_user?: string;
}

/** A machine with what it showed, and what came of adopting it. */
interface Row extends ListedMachine {
  keys?: ShownHostKey[];
  problem?: string;
  adopted?: boolean;
}

const askedAtOnce = 8;

/** Brings in machines that run sshd, of any cloud or none. */
export default function Adopt() {
  const [many, setMany] = useState(false);
  const [rows, setRows] = useState<Row[]>();
  const [chosen, setChosen] = useState<number[]>([]);
  const queries = useQueryClient();
  const show = (list: Row[]) => {
    setRows(list);
    setChosen(list.filter((r) => r.keys).map((r) => r.line));
  };
  const one = useMutation({
    mutationFn: (v: One) => asked([{ line: 1, ...v, port: v.port ?? 22, via: v.via || undefined }]),
    onSuccess: show,
  });
  const list = useMutation({
    mutationFn: async (v: Many) =>
      asked(
        (
          await take(
            api.POST("/instances/adopted/list-readings", {
              body: { text: v.text, login_user: v.login_user || undefined },
            }),
          )
        ).machines,
      ),
    onSuccess: show,
  });
  const adopt = useMutation({
    mutationFn: async (wanted: Row[]) => {
      for (const r of wanted) {
        const outcome = await adoptOne(r);
        setRows((old) => old?.map((o) => (o.line === r.line ? { ...o, ...outcome } : o)));
      }
    },
    onSettled: () => {
      setChosen([]);
      void queries.invalidateQueries();
    },
  });
  const reading = one.isPending || list.isPending;
  const adopted = rows?.filter((r) => r.adopted) ?? [];
  return (
    <>
      <PageHead title="Adopt machines" note="that run sshd, of any cloud or none; nothing on them is changed" />
      <div className="stack page">
        <Card
          size="small"
          title="1  Where they are"
          extra={
            <Segmented
              size="small"
              value={many ? "A list" : "One machine"}
              onChange={(v) => {
                setMany(v === "A list");
                setRows(undefined);
              }}
              options={["One machine", "A list"]}
            />
          }
        >
          {many ? (
            <Form<Many>
              layout="vertical"
              requiredMark={false}
              onFinish={(v) => list.mutate(v)}
              onValuesChange={() => setRows(undefined)}
            >
              <Form.Item
                name="text"
                label={
                  "CSV with the heading name,address,port,login,host_key,via (other columns are labels), a JSON " +
                  "array of the same, or an OpenSSH client configuration"
                }
                rules={[{ required: true, message: "Paste the list" }]}
              >
                <Input.TextArea
                  autoFocus
                  rows={rows ? 4 : 8}
                  spellCheck={false}
                  className="code"
                  placeholder={
                    "name,address,port,login,team\n" +
                    "weather-mast,192.0.2.30,22,pi,field\ngauge-7,gauge.example,2222,warden,field"
                  }
                />
              </Form.Item>
              <div className="row gap-l end">
                <Form.Item name="login_user" label="Log in as, where the list does not say" className="flush">
                  <Input placeholder="pi" />
                </Form.Item>
                <Button type={rows ? "default" : "primary"} htmlType="submit" loading={reading}>
                  Ask them for their host keys
                </Button>
              </div>
            </Form>
          ) : (
            <Form<One>
              layout="vertical"
              requiredMark={false}
              onFinish={(v) => one.mutate(v)}
              onValuesChange={() => setRows(undefined)}
            >
              <div className="columns two-number-one">
                <Form.Item
                  name="name"
                  label="Name"
                  rules={[
                    { required: true, message: "Give it a name" },
                    { pattern: /^[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?$/, message: "1 to 64 of a-z 0-9 . _ -" },
                  ]}
                >
                  <Input autoFocus placeholder="weather-mast" />
                </Form.Item>
                <Form.Item
                  name="address"
                  label="Host name or address"
                  rules={[{ required: true, message: "Say where it is" }]}
                >
                  <Input placeholder="192.0.2.30" />
                </Form.Item>
                <Form.Item name="port" label="SSH port">
                  <InputNumber min={1} max={65535} placeholder="22" className="full" />
                </Form.Item>
                <Form.Item
                  name="login_user"
                  label="Log in as"
                  rules={[{ required: true, message: "Name the OS user" }]}
                >
                  <Input placeholder="pi" />
                </Form.Item>
                <Form.Item name="via" label="By way of the jump host">
                  <Input placeholder="none" />
                </Form.Item>
              </div>
              <Button type={rows ? "default" : "primary"} htmlType="submit" loading={reading}>
                Ask it for its host keys
              </Button>
            </Form>
          )}
          {(one.error ?? list.error) && (
            <div className="before-l">
              <ProblemNote error={one.error ?? list.error} />
            </div>
          )}
        </Card>
        {rows && (
          <Card
            size="small"
            title="2  Compare a fingerprint of each with what another way tells"
            styles={{ body: { padding: 0 } }}
          >
            <Table<Row>
              size="small"
              rowKey="line"
              dataSource={rows}
              pagination={rows.length > 50 ? { pageSize: 50 } : false}
              columns={columns}
              rowSelection={{
                selectedRowKeys: chosen,
                onChange: (keys) => setChosen(keys as number[]),
                getCheckboxProps: (r) => ({ disabled: !r.keys || r.adopted, "aria-label": `adopt ${r.name ?? ""}` }),
              }}
            />
          </Card>
        )}
        {rows && adopted.length === 0 && (
          <div className="row gap-l middle">
            <Button
              type="primary"
              disabled={chosen.length === 0}
              loading={adopt.isPending}
              onClick={() => adopt.mutate(rows.filter((r) => chosen.includes(r.line)))}
            >
              Pin these host keys and adopt {counted(chosen.length, "machine")}
            </Button>
            <span>
              The machine's console, or the person who set it up, can tell its fingerprints:{" "}
              <code>ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub</code>
            </span>
          </div>
        )}
        {adopted.length > 0 && (
          <Alert
            type="success"
            showIcon
            title={`${counted(adopted.length, "machine")} recorded.`}
            description={
              <>
                Now read who gets in, from a machine with a private key that opens{" "}
                {adopted.length === 1 ? "it" : "them"}:{" "}
                <CopyText text={`plumlatch sweep ${adopted.map((r) => r.name).join(" ")} -with FILE`} label="command" />
              </>
            }
          />
        )}
      </div>
    </>
  );
}

const columns = [
  {
    title: "Name",
    key: "name",
    render: (_: unknown, r: Row) =>
      r.adopted ? <Link to={`/instances/${encodeURIComponent(r.name ?? "")}`}>{r.name}</Link> : r.name,
  },
  { title: "Login", key: "login", render: (_: unknown, r: Row) => [r.login_user, ...(r.logins ?? [])].join(", ") },
  {
    title: "Address",
    key: "address",
    render: (_: unknown, r: Row) =>
      r.address && `${r.address}, port ${r.port ?? 22}${r.via ? `, by way of ${r.via}` : ""}`,
  },
  {
    title: "Host keys that it shows, or why it is left out",
    key: "keys",
    render: (_: unknown, r: Row) =>
      r.keys ? (
        <div className="stack gap-xs">
          {r.keys.map((k) => (
            <CopyText key={k.sha256} text={k.sha256} label={`fingerprint of ${r.name ?? ""}`} />
          ))}
          {r.problem}
        </div>
      ) : (
        r.problem
      ),
  },
  {
    title: "State",
    key: "state",
    width: 110,
    render: (_: unknown, r: Row) => (r.adopted ? "adopted" : r.keys ? "not yet" : "left out"),
  },
];

/** Asks the machines for their host keys, some at once. */
async function asked(machines: ListedMachine[]): Promise<Row[]> {
  const out: Row[] = machines.map((m) => ({
    ...m,
    problem:
      m.refused ??
      (m.known_as && `recorded already as ${m.known_as}`) ??
      (m.login_of && `another login of ${m.login_of}, and adopted with it`),
  }));
  const waiting = out.filter((r) => !r.problem);
  await Promise.all(
    Array.from({ length: askedAtOnce }, async () => {
      for (let r = waiting.shift(); r; r = waiting.shift()) {
        try {
          const shown = await take(
            api.POST("/instances/adopted/host-keys", { body: { address: r.address ?? "", port: r.port, via: r.via } }),
          );
          const expected = r.host_key;
          r.keys = expected ? shown.filter((k) => k.sha256 === expected) : shown;
          if (r.keys.length === 0) {
            r.keys = undefined;
            r.problem = `it shows ${shown.map((k) => k.sha256).join(", ")}, and not the host key that the list expects`;
          }
        } catch (e) {
          r.problem = problemOf(e).detail;
        }
      }
    }),
  );
  return out;
}

async function adoptOne(r: Row): Promise<Partial<Row>> {
  try {
    await take(
      api.POST("/instances/adopted", {
        body: {
          name: r.name ?? "",
          address: r.address ?? "",
          port: r.port,
          login_user: r.login_user ?? "",
          labels: r.labels,
          via: r.via,
          logins: r.logins,
          host_keys: (r.keys ?? []).map((k) => k.line),
          learnt: r.host_key
            ? "machine itself, with the fingerprint that was expected"
            : "first contact by the service, compared in the console",
        },
      }),
    );
    return { adopted: true, problem: undefined };
  } catch (e) {
    return { problem: problemOf(e).detail };
  }
}
