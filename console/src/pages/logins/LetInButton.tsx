import { Button } from "antd";
import { lazy } from "react";
import { useDialogs } from "../../parts/dialogs";

const LetIn = lazy(() => import("./LetIn"));

/** Lets another key in to logins, where the person is. */
export function LetInButton({
  logins,
  text,
  small,
  primary,
}: {
  logins: string[];
  text?: string;
  small?: boolean;
  primary?: boolean;
}) {
  const { open, close } = useDialogs();
  return (
    <Button
      size={small ? "small" : undefined}
      type={primary ? "primary" : undefined}
      onClick={() => open(<LetIn logins={logins} close={close} />)}
    >
      {text ?? "Let a key in"}
    </Button>
  );
}
