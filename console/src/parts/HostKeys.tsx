import type { HostKey } from "../api/client";
import { day } from "../format";
import { CopyText } from "./CopyText";

/** Pinned host keys, to compare at the first connection. */
export function HostKeys({ keys }: { keys: HostKey[] }) {
  if (keys.length === 0) return <>none is pinned yet</>;
  return (
    <>
      {keys.map((h) => (
        <div key={h.algorithm}>
          <CopyText text={h.sha256} label="host key fingerprint" />{" "}
          <span className="nowrap">
            {h.algorithm}, from the {h.learnt}, {day(h.pinned_at)}
          </span>
        </div>
      ))}
    </>
  );
}
