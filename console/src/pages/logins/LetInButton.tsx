import { Button } from "antd";
import { lazy, Suspense, useState } from "react";

const LetIn = lazy(() => import("./LetIn"));

/** Lets another key in to logins, where the person is. */
export function LetInButton({
  logins,
  text,
  small,
  primary,
  opened,
}: {
  logins: string[];
  text?: string;
  small?: boolean;
  primary?: boolean;
  /** Whether it is asked for by the address of the page. */
  opened?: boolean;
}) {
  const [asking, setAsking] = useState(opened ?? false);
  return (
    <>
      <Button size={small ? "small" : undefined} type={primary ? "primary" : undefined} onClick={() => setAsking(true)}>
        {text ?? "Let a key in"}
      </Button>
      {asking && (
        <Suspense fallback={null}>
          <LetIn logins={logins} close={() => setAsking(false)} />
        </Suspense>
      )}
    </>
  );
}
