import { Button } from "antd";
import { lazy, Suspense, useState } from "react";

// What reads private keys comes when it is needed.
const ProveDialog = lazy(() => import("./ProveDialog"));

/** Proves keys by signatures that the browser makes: the key of, or all that are chosen. */
export function ProveButton({ of, text, small }: { of?: string; text?: string; small?: boolean }) {
  const [asking, setAsking] = useState(false);
  return (
    <>
      <Button size={small ? "small" : undefined} onClick={() => setAsking(true)}>
        {text ?? "Prove it"}
      </Button>
      {asking && (
        <Suspense fallback={null}>
          <ProveDialog of={of} close={() => setAsking(false)} />
        </Suspense>
      )}
    </>
  );
}
