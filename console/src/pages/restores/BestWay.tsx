import { Button, Modal } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { useRoutes } from "../../api/queries";
import { Loading } from "../../parts/Loading";
import { ProblemNote } from "../../parts/ProblemNote";
import { RunHere } from "../../parts/RunHere";
import { StartDialog } from "./StartDialog";

/** Begins a restore by the best way that is possible, and shows its run. */
export default function BestWay({ login, close }: { login: string; close: () => void }) {
  const routes = useRoutes(login, {});
  const [run, setRun] = useState<string>();
  const best = routes.data?.routes.find((o) => o.possible && o.within_limits);
  if (routes.data && best && !run)
    return <StartDialog routes={routes.data} option={best} limits={{}} close={close} begun={setRun} others />;
  const all = `/logins/${encodeURIComponent(login)}/routes`;
  return (
    <Modal
      open
      title={`Get back into ${login}`}
      width={680}
      onCancel={close}
      footer={
        <Button type="primary" onClick={close}>
          Close
        </Button>
      }
    >
      {run ? (
        <RunHere id={run} steps />
      ) : routes.error ? (
        <ProblemNote error={routes.error} />
      ) : routes.data ? (
        <p>
          No way back in is possible as things are. <Link to={all}>See what each would need</Link>
        </p>
      ) : (
        <Loading />
      )}
    </Modal>
  );
}
