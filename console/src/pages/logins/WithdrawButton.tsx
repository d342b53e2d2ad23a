import { Button } from "antd";
import { useState } from "react";
import { Withdraw, type Granted } from "./Withdraw";

/** Withdraws grants, after a look at what that does. */
export function WithdrawButton({ grants }: { grants: Granted[] }) {
  const [asking, setAsking] = useState<Granted[]>();
  return (
    <>
      <Button danger onClick={() => setAsking(grants)}>
        Withdraw them
      </Button>
      {asking && <Withdraw grants={asking} close={() => setAsking(undefined)} />}
    </>
  );
}
