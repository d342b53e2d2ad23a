import { useMutation } from "@tanstack/react-query";
import { App, Button, Card, Input, Modal } from "antd";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, take, type Instance, type Opening } from "../../api/client";
import { useCatalogue, useInstance, useInstanceAccess, useMe, useOpeners, useRuns } from "../../api/queries";
import { loginCommand, moment } from "../../format";
import { bestOpener } from "../../parts/bestOpener";
import { CopyText } from "../../parts/CopyText";
import { EmptyNote } from "../../parts/EmptyNote";
import { Facts } from "../../parts/Facts";
import { HostKeys } from "../../parts/HostKeys";
import { ExpectedHostKeys } from "./ExpectedHostKeys";
import { HostKeyChange } from "./HostKeyChange";
import { Labels } from "../../parts/Labels";
import { Loading } from "../../parts/Loading";
import { keyColumns } from "../../parts/openingColumns";
import { PagedTable } from "../../parts/list/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";
import type { Column } from "../../parts/list/column";
import { LoginActions } from "../logins/LoginActions";
import { Settle } from "../logins/Settle";
import { Access } from "./Access";
import { Past } from "./Past";
import { Timeline } from "./Timeline";
import { Way } from "./Way";
import { WindowsPassword } from "./WindowsPassword";

export default function InstancePage() {
  const { name = "" } = useParams();
  const instance = useInstance(name);
  const openers = useOpeners(name);
  const access = useInstanceAccess(name);
  const runs = useRuns(name);
  const me = useMe();
  const catalogue = useCatalogue(instance.data?.cloud);
  if (instance.error) return <ProblemNote error={instance.error} again={() => void instance.refetch()} />;
  if (!instance.data) return <Loading />;
  const i = instance.data;
  const first = bestOpener(openers.rows, me.data?.name);
  const windows = catalogue.data?.images.find((o) => o.name === i.image)?.family === "windows";
  const main = access.data?.logins.find((l) => l.reach.login === `${i.connection.user}@${i.name}`);
  const live = runs.data?.items.filter((r) => !r.ended_at) ?? [];
  return (
    <>
      <PageHead title={i.name} note={<StateMark state={i.state} />}>
        {main && i.state === "running" && <LoginActions of={main.reach} />}
        <Actions instance={i} />
      </PageHead>
      {live.map((r) => (
        <p key={r.id}>
          A {r.kind} is under way. <Link to={`/runs/${r.id}`}>Watch it</Link>
        </p>
      ))}
      <div className="columns cards after-l">
        <Card size="small" title="Log in">
          {i.connection.address ? (
            <CopyText
              block
              label="ssh command"
              text={loginCommand(i.connection, `~/.ssh/${first?.key.name ?? "YOUR-KEY"}`)}
            />
          ) : (
            <p className="flush">It has no address while it is {i.state}. Start it to log in.</p>
          )}
          {i.connection.address && (
            <p>
              The file is where the private key of {first ? <strong>{first.key.name}</strong> : "your key"} lies on your
              machine. Compare the host key at the first connection:
            </p>
          )}
          <HostKeys keys={i.connection.host_keys} />
          <ExpectedHostKeys of={i} /> <HostKeyChange of={i} />
        </Card>
        <Card size="small" title="What it is">
          <Facts
            of={[
              ["Image", i.image],
              ["Size", i.size],
              ["Cloud", i.cloud && <Link to={`/instances?cloud=${encodeURIComponent(i.cloud)}`}>{i.cloud}</Link>],
              ["Zone", i.zone && `${i.zone} in ${i.region}`],
              [
                "Address",
                i.public_address && i.public_address + (i.static_address ? " (static: stays at a stop)" : ""),
              ],
              ["Private address", i.private_address],
              ["Reached", <Way key="w" of={i} />],
              [
                "Who gets in",
                <Link key="l" to={`/logins/${encodeURIComponent(`${i.connection.user}@${i.name}`)}`}>
                  {i.connection.user}@{i.name}
                </Link>,
              ],
              [
                "Administrator",
                windows && me.data && me.data.role !== "viewer" && <WindowsPassword key="a" of={i.name} />,
              ],
              ["Adopted", i.adopted && "it was not launched here, and no cloud is asked about it"],
              [
                "Cloud's key label",
                i.key_label && <span>{i.key_label} (as of the launch; it says nothing about what opens it now)</span>,
              ],
              ["Labels", Object.keys(i.labels).length > 0 && <Labels labels={i.labels} list="/instances" />],
              [
                i.brought_in ? "Brought in" : i.adopted ? "Adopted" : "Launched",
                `${moment(i.created_at)} by ${i.created_by}`,
              ],
              ["A stop costs", i.stop_costs.join("; ")],
            ]}
          />
        </Card>
      </div>
      <Card size="small" title="Keys that open it" styles={{ body: { padding: 0 } }}>
        <PagedTable
          pages={openers}
          noun="key"
          rowKey={(o) => o.key.name + o.os_user}
          columns={me.data && me.data.role !== "viewer" ? settledColumns : keyColumns}
          empty={<EmptyNote text="No key that is recorded opens it." />}
        />
      </Card>
      <Access of={i.name} />
      <Timeline of={i.name} login={`${i.connection.user}@${i.name}`} />
      <Past of={i.name} />
    </>
  );
}

/** The keys, each with what settles its status. */
const settledColumns: Column<Opening>[] = [
  ...keyColumns,
  { title: "Actions", unseen: true, key: "do", align: "right", render: (o) => <Settle of={o} /> },
];

type Action = "start" | "stop" | "delete";

function Actions({ instance }: { instance: Instance }) {
  const me = useMe();
  const { message } = App.useApp();
  const navigate = useNavigate();
  const [asked, setAsked] = useState<Action>();
  const change = useMutation({
    mutationFn: (a: Action) => {
      const params = { params: { path: { instance: instance.name } } };
      if (a === "delete") return take(api.DELETE("/instances/{instance}", params));
      return take(
        a === "start"
          ? api.POST("/instances/{instance}/start", params)
          : api.POST("/instances/{instance}/stop", params),
      );
    },
    onSuccess: (run) => void navigate(`/runs/${run.id}`),
    onError: (e) => void message.error(e.message),
  });
  if (!me.data || me.data.role === "viewer" || instance.adopted) return null;
  return (
    <>
      {instance.state === "stopped" && (
        <Button type="primary" loading={change.isPending} onClick={() => change.mutate("start")}>
          Start
        </Button>
      )}
      {instance.state === "running" && <Button onClick={() => setAsked("stop")}>Stop</Button>}
      {me.data.role === "admin" && ["running", "stopped", "failed"].includes(instance.state) && (
        <Button danger onClick={() => setAsked("delete")}>
          Delete
        </Button>
      )}
      {asked && (
        <ConfirmChange
          instance={instance}
          action={asked}
          busy={change.isPending}
          close={() => setAsked(undefined)}
          go={() => change.mutate(asked)}
        />
      )}
    </>
  );
}

/** Asks for the instance's name before harm, after saying what it costs. */
function ConfirmChange({
  instance,
  action,
  busy,
  go,
  close,
}: {
  instance: Instance;
  action: Action;
  busy: boolean;
  go: () => void;
  close: () => void;
}) {
  const [typed, setTyped] = useState("");
  const costs =
    action === "delete" ? ["the instance and its disks are gone for good; there is no undo"] : instance.stop_costs;
  return (
    <Modal
      open
      title={`${action === "stop" ? "Stop" : "Delete"} ${instance.name}?`}
      onCancel={close}
      onOk={go}
      confirmLoading={busy}
      okText={action === "stop" ? "Stop it" : "Delete it"}
      okButtonProps={{ danger: true, disabled: typed !== instance.name }}
      cancelText="Leave it as it is"
    >
      {costs.length > 0 && (
        <>
          <p>This costs:</p>
          <ul>
            {costs.map((c) => (
              <li key={c}>{c}</li>
            ))}
          </ul>
        </>
      )}
      <p>
        Type <strong>{instance.name}</strong> to continue:
      </p>
      <Input
        aria-label="The instance's name"
        value={typed}
        onChange={(e) => setTyped(e.target.value)}
        onPressEnter={() => typed === instance.name && go()}
        autoFocus
      />
    </Modal>
  );
}
