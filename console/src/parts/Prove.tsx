import { Button } from "antd";
import { lazy } from "react";
import { useDialogs } from "./dialogs";

// What reads private keys comes when it is needed.
const ProveDialog = lazy(() => import("./ProveDialog"));

/** Proves keys by signatures that the browser makes: the key of, those among which it is, or all in the files. */
export function ProveButton({
  of,
  among,
  text,
  small,
}: {
  of?: string;
  among?: string[];
  text?: string;
  small?: boolean;
}) {
  const { open, close } = useDialogs();
  return (
    <Button
      size={small ? "small" : undefined}
      onClick={() => open(<ProveDialog of={of} among={among} close={close} />)}
    >
      {text ?? "Prove it"}
    </Button>
  );
}
