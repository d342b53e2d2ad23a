import { App, Button } from "antd";
import { api, problemOf, take } from "../api/client";
import { useAct } from "./useAct";

interface Props {
  /** What came of the attempt that may lack a consent. */
  after: unknown;
  /** The key. */
  of: string;
  reason: () => string;
  done?: () => void;
}

/** Asks a second person for their consent to the use of a kept private key, where that was missing. */
export function AskConsent({ after, of, reason, done }: Props) {
  const { message } = App.useApp();
  const asking = useAct(
    () => take(api.POST("/consents", { body: { key: of, reason: reason() } })),
    "consents",
    () => {
      void message.success("Somebody else is asked to consent. Come back once they have.", 8);
      done?.();
    },
  );
  if (!after || problemOf(after).code !== "consent-needed") return null;
  return (
    <Button loading={asking.isPending} onClick={() => asking.mutate(undefined)}>
      Ask for consent
    </Button>
  );
}
