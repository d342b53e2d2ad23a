import { Alert, Button, Card, Tag } from "antd";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, take, type InstanceAccess, type Login } from "../../api/client";
import { useInstanceAccess, useMe } from "../../api/queries";
import { counted, day, moment } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { ProblemNote } from "../../parts/ProblemNote";
import { LetInButton } from "../logins/LetInButton";
import { GetBackIn } from "../restores/GetBackIn";
import { StateMark } from "../../parts/StateMark";

const rights = { root: "root", sudo: "root by sudo", user: "the login user" };

/** Who else gets in to an instance: its logins, what lets in beside keys, and what is not known. */
export function Access({ of: name }: { of: string }) {
  const access = useInstanceAccess(name);
  if (access.error) return <ProblemNote error={access.error} again={() => void access.refetch()} />;
  if (!access.data) return null;
  const a = access.data;
  return (
    <Card size="small" title="All logins of the machine" className="before-l">
      <ul className="list">
        {a.logins.map((l) => (
          <OneLogin key={l.reach.login} of={l} />
        ))}
      </ul>
      <Steward of={a} />
      <Users of={a} />
    </Card>
  );
}

function OneLogin({ of: l }: { of: Login }) {
  const me = useMe();
  const queries = useQueryClient();
  const add = useMutation({
    mutationFn: () => take(api.POST("/logins", { body: { login: l.reach.login } })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["reach"] }),
  });
  return (
    <li>
      <Link to={`/logins/${encodeURIComponent(l.reach.login)}`}>{l.reach.login}</Link>{" "}
      <StateMark state={l.reach.reach} /> {counted(l.openers.length, "key")}{" "}
      {l.strangers.length > 0 && <Tag color="error">{counted(l.strangers.length, "stranger")}</Tag>}
      {!l.reach.own_account && me.data?.role !== "viewer" && (
        <span className="inline">
          {l.reach.reach === "shut" ? (
            <GetBackIn login={l.reach.login} small />
          ) : (
            <LetInButton logins={[l.reach.login]} small />
          )}
        </span>
      )}{" "}
      {l.reach.own_account && "an account of the service's own"}
      {l.found_at && !l.reach.own_account && (
        <>
          {" "}
          found on {day(l.found_at)}, added by nobody{" "}
          {me.data?.role !== "viewer" && (
            <Button size="small" loading={add.isPending} onClick={() => add.mutate()}>
              Add it
            </Button>
          )}
        </>
      )}
      {l.reach.sweep_error && <div>could not be read: {l.reach.sweep_error}</div>}
      {l.also.map((way) => (
        <div key={way}>{way}</div>
      ))}
      {add.error && <ProblemNote error={add.error} />}
    </li>
  );
}

/** As whom the service's own key logs in, and how it is placed or withdrawn, which takes a private key at hand. */
function Steward({ of: a }: { of: InstanceAccess }) {
  const s = a.steward;
  if (!s)
    return (
      <p>
        No steward key reads it by itself. Place one, with an account of its own:{" "}
        <CopyText text={`plumlatch instance steward ${a.instance} -account plumlatch -with FILE`} label="command" />
      </p>
    );
  return (
    <p>
      The steward key <Link to={`/keys/${encodeURIComponent(s.key)}`}>{s.key}</Link> logs in as {s.login}
      {s.own_account && ", an account of its own"}
      {s.changes.length > 0 && `, and changes files of ${s.changes.join(", ")} by sudo`}. Withdraw it:{" "}
      <CopyText text={`plumlatch instance steward ${a.instance} -withdraw -with FILE`} label="command" />
    </p>
  );
}

function Users({ of: a }: { of: InstanceAccess }) {
  const m = a.machine;
  if (!m.read_at)
    return (
      <Alert
        type="warning"
        showIcon
        title="Not known who gets in as another OS user: nobody has read them."
        description={
          a.logins.some((l) => l.reach.steward) ? (
            "A sweep reads them."
          ) : (
            <CopyText text={`plumlatch instance steward ${a.instance} -with FILE`} label="command" />
          )
        }
      />
    );
  return (
    <>
      {m.accounts > 0 && (
        <p>
          Of the {counted(m.accounts, "OS user")} of the machine, nobody gets in as {m.no_way} ({m.read_by}
          {m.rights && ` as ${rights[m.rights]}`} on {moment(m.read_at)}).
        </p>
      )}
      {m.unread_total > 0 && (
        <Alert
          type="warning"
          showIcon
          title={`Not known who gets in as ${counted(m.unread_total, "OS user")}:`}
          description={
            <>
              <ul className="list">
                {m.unread.map((u) => (
                  <li key={u.user}>
                    {u.user}: {u.why}
                  </li>
                ))}
              </ul>
              {m.remedy && <p>To know it, {m.remedy}.</p>}
            </>
          }
        />
      )}
      {m.gone.map((file) => (
        <p key={file}>{file} holds keys for a user that does not exist.</p>
      ))}
    </>
  );
}
