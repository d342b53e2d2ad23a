import { Alert } from "antd";
import type { components } from "../api/contract.gen";
import { moment } from "../format";
import { CopyText } from "./CopyText";

/** What a run waits for from somebody, with the command that does it. */
export function WaitsNote({ waits: w }: { waits: components["schemas"]["RunWaits"] }) {
  return (
    <Alert
      type="warning"
      showIcon
      title={`${w.undo ? "The undo waits" : "It waits"} for ${w.who} ${w.what}.`}
      description={
        <>
          {w.next && <CopyText block text={w.next} label="command" />}
          <div>
            {w.by_hand ? "Do it there, by hand. " : ""}It continues once that is seen; pending since {moment(w.since)}.
          </div>
        </>
      }
    />
  );
}
