import type { ReactNode } from "react";

/** Names and values in two columns; facts without a value are left out. */
export function Facts({ of }: { of: [string, ReactNode][] }) {
  return (
    <dl className="facts">
      {of
        .filter(([, v]) => !!v)
        .map(([k, v]) => [
          <dt key={k} className="quiet">
            {k}
          </dt>,
          <dd key={`${k} value`} className="flush shrinks">
            {v}
          </dd>,
        ])}
    </dl>
  );
}
