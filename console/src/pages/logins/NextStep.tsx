import { Button } from "antd";
import { lazy } from "react";
import { Link } from "react-router";
import type { LoginReach } from "../../api/client";
import { useMe } from "../../api/queries";
import { CopyText } from "../../parts/CopyText";
import { useDialogs } from "../../parts/dialogs";
import { ProveButton } from "../../parts/Prove";
import { SweepButton } from "../../parts/SweepButton";
import { GetBackIn } from "../restores/GetBackIn";
import { LetInButton } from "./LetInButton";

const SettleDialog = lazy(() => import("../reach/SettleDialog"));

/**
 * The one next action for a login, in place where the page can do it. A command is left where it takes a private key
 * on the person's machine that reads or changes the login. here is on the page of the login.
 */
export function NextStep({ of: l, here }: { of: LoginReach; here?: boolean }) {
  const { open, close } = useDialogs();
  const may = useMe().data?.role !== "viewer";
  const page = `/logins/${encodeURIComponent(l.login)}`;
  const differs = l.missing + l.ungranted + l.strangers > 0;
  if (l.reach === "shut" && !l.steward) return <GetBackIn login={l.login} small />;
  if (differs && l.reach !== "shut" && may)
    return (
      <Button size="small" onClick={() => open(<SettleDialog login={l.login} close={close} />)}>
        Decide about the drift
      </Button>
    );
  if (differs && l.reach !== "shut")
    return here ? <>Decide about the drift, below.</> : <Link to={page}>Decide about the drift</Link>;
  if (may && (l.reach === "thin" || l.reach === "shut"))
    return <LetInButton logins={[l.login]} text="Let another key in" small />;
  if (l.reach === "stale") return <ProveButton small />;
  if (l.reach === "unswept" && l.steward && may) return <SweepButton instances={[l.instance]} small />;
  return l.next ? (
    <div className="block-text">
      <CopyText text={l.next} label="command" />
    </div>
  ) : here ? (
    <>Nothing.</>
  ) : (
    <Link to={page}>See it</Link>
  );
}
