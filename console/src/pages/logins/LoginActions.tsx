import { Button } from "antd";
import { Link } from "react-router";
import type { LoginReach } from "../../api/client";
import { useMe } from "../../api/queries";
import { SweepButton } from "../../parts/SweepButton";
import { GetBackIn } from "../restores/GetBackIn";
import { LetInButton } from "./LetInButton";

/** What can be done with a login, wherever it is shown. */
export function LoginActions({ of: l, small }: { of: LoginReach; small?: boolean }) {
  const may = useMe().data?.role !== "viewer";
  const shut = l.reach === "shut";
  const size = small ? "small" : undefined;
  return (
    <>
      {!shut && (
        <Link to={`/logins/${encodeURIComponent(l.login)}/routes`}>
          <Button size={size}>Ways back in</Button>
        </Link>
      )}
      {shut && <GetBackIn login={l.login} small={small} />}
      {may && (
        <>
          <Link to={`/terminals/${encodeURIComponent(l.login)}`}>
            <Button size={size}>Open a terminal</Button>
          </Link>
          <SweepButton instances={[l.instance]} small={small} />
          <LetInButton logins={[l.login]} primary={!shut && !small} small={small} />
        </>
      )}
    </>
  );
}
