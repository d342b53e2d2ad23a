import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Checkbox, Input, Modal } from "antd";
import { useState } from "react";
import { api, problemOf, take } from "../../api/client";
import { useLogin } from "../../api/queries";
import { counted } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { ProblemNote } from "../../parts/ProblemNote";
import { RunHere } from "../../parts/RunHere";

/** A grant by what it says: which key opens which login. */
export interface Granted {
  key: string;
  login: string;
}

type Came = { run?: string; error?: unknown };

const wouldShut = (error: unknown) => Boolean(error) && problemOf(error).code.startsWith("would-be-");

const idOf = (g: Granted) => `${g.key} ${g.login}`;

/**
 * Withdraws grants and has their lines removed, each in a run that is shown here. What would leave a login shut or thin
 * is refused, and asked again with a reason.
 */
export function Withdraw({ grants, close }: { grants: Granted[]; close: () => void }) {
  const [reason, setReason] = useState("");
  const [anyway, setAnyway] = useState(false);
  const [came, setCame] = useState<Record<string, Came>>({});
  const queries = useQueryClient();
  const one = grants.length === 1 ? grants[0] : undefined;
  const left = grants.filter((g) => !came[idOf(g)]?.run);
  const begun = Object.keys(came).length > 0;
  const stopped = left.filter((g) => wouldShut(came[idOf(g)]?.error));
  const withdraw = useMutation({
    mutationFn: async () => {
      for (const g of begun ? stopped : grants) {
        let now: Came;
        try {
          const { run } = await take(
            api.POST("/grants/withdrawals", {
              body: { ...g, reason: reason || undefined, anyway: anyway || undefined },
            }),
          );
          now = { run: run?.id };
        } catch (e) {
          now = { error: e };
        }
        setCame((c) => ({ ...c, [idOf(g)]: now }));
      }
      await queries.invalidateQueries({ queryKey: ["reach"] });
    },
  });
  const over = begun && stopped.length === 0 && !withdraw.isPending;
  return (
    <Modal
      open
      width={680}
      title={one ? `Remove ${one.key} from ${one.login}?` : `Withdraw ${counted(grants.length, "grant")}?`}
      onCancel={close}
      footer={
        over ? (
          <Button type="primary" onClick={close}>
            Close
          </Button>
        ) : (
          <>
            <Button onClick={close}>{begun ? "Leave the rest" : "Leave it"}</Button>
            <Button
              danger
              type="primary"
              disabled={begun && !(anyway && reason)}
              loading={withdraw.isPending}
              onClick={() => withdraw.mutate()}
            >
              {anyway ? "Remove it anyway" : one ? "Remove its line" : "Remove their lines"}
            </Button>
          </>
        )
      }
    >
      {one && <NoMeans of={one} />}
      {!begun && (
        <p>
          {one ? "Its line is" : "Their lines are"} taken out of the file; all other lines stay byte for byte. A person
          with only {one ? "this key" : "such a key"} does not get in now. A login that would be shut or thin is left as
          it is.
        </p>
      )}
      <ul className="bare-list after-m" aria-live="polite">
        {(one && !begun ? [] : grants).map((g) => {
          const c = came[idOf(g)];
          return (
            <li key={idOf(g)} className="before-s">
              {!one && (
                <>
                  {g.key} from {g.login}
                  {c && ": "}
                </>
              )}
              {c?.run && <RunHere id={c.run} steps={Boolean(one)} />}
              {c && !c.run && (c.error ? <ProblemNote error={c.error} /> : "withdrawn; no line of it was seen")}
            </li>
          );
        })}
      </ul>
      {!over && (
        <p>
          <label htmlFor="withdraw-reason">Why, for the daybook</label>
          <Input id="withdraw-reason" value={reason} onChange={(e) => setReason(e.target.value)} />
        </p>
      )}
      {stopped.length > 0 && (
        <p>
          <Checkbox checked={anyway} onChange={(e) => setAnyway(e.target.checked)}>
            Continue anyway, with the reason above
          </Checkbox>
        </p>
      )}
    </Modal>
  );
}

/** Where the service has no means to remove a line: why, and what to type where there is a key. */
function NoMeans({ of: g }: { of: Granted }) {
  const login = useLogin(g.login);
  if (!login.data?.no_means) return null;
  return (
    <Alert
      type="info"
      showIcon
      className="after-l"
      title={`The service cannot remove the line: ${login.data.no_means}.`}
      description={
        <>
          From your machine, with another key that opens it:{" "}
          <CopyText text={`plumlatch grant withdraw ${g.key} ${g.login} -with FILE`} label="command" />
        </>
      }
    />
  );
}
