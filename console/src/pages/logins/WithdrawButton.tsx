import { Button } from "antd";
import { useDialogs } from "../../parts/dialogs";
import { Withdraw, type Granted } from "./Withdraw";

/** Withdraws grants, after a look at what that does. */
export function WithdrawButton({ grants }: { grants: Granted[] }) {
  const { open, close } = useDialogs();
  return (
    <Button danger onClick={() => open(<Withdraw grants={grants} close={close} />)}>
      Withdraw them
    </Button>
  );
}
