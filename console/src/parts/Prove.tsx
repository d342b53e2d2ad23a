import { Button } from "antd";
import { lazy, Suspense, useState } from "react";

// What reads private keys comes when it is needed.
const ProveDialog = lazy(() => import("./ProveDialog"));

/** Proves keys by signatures that the browser makes: the key of, those among which it is, or all that are in the files. */
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
  const [asking, setAsking] = useState(false);
  return (
    <>
      <Button size={small ? "small" : undefined} onClick={() => setAsking(true)}>
        {text ?? "Prove it"}
      </Button>
      {asking && (
        <Suspense fallback={null}>
          <ProveDialog of={of} among={among} close={() => setAsking(false)} />
        </Suspense>
      )}
    </>
  );
}
