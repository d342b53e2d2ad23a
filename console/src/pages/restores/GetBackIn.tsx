import { Button } from "antd";
import { lazy } from "react";
import { Link } from "react-router";
import { useDialogs } from "../../parts/dialogs";
import { useMe } from "../../api/queries";

const BestWay = lazy(() => import("./BestWay"));

/** Gets back into a login that is shut by the best way there is, where the person is, with its run. */
export function GetBackIn({ login, small }: { login: string; small?: boolean }) {
  const { open, close } = useDialogs();
  const may = useMe().data?.role !== "viewer";
  const routes = `/logins/${encodeURIComponent(login)}/routes`;
  if (!may)
    return (
      <Link to={routes}>
        <Button size={small ? "small" : undefined}>Ways back in</Button>
      </Link>
    );
  return (
    <Button
      type="primary"
      danger
      size={small ? "small" : undefined}
      onClick={() => open(<BestWay login={login} close={close} />)}
    >
      Get back in
    </Button>
  );
}
