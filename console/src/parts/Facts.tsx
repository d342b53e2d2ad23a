import { theme } from "antd";
import type { ReactNode } from "react";

/** Names and values in two columns; facts without a value are left out. */
export function Facts({ of }: { of: [string, ReactNode][] }) {
  const { token } = theme.useToken();
  return (
    <dl
      style={{
        display: "grid",
        gridTemplateColumns: "max-content 1fr",
        gap: "6px 20px",
        margin: 0,
        alignItems: "baseline",
      }}
    >
      {of
        .filter(([, v]) => !!v)
        .map(([k, v]) => [
          <dt key={k} style={{ color: token.colorTextSecondary }}>
            {k}
          </dt>,
          <dd key={`${k} value`} style={{ margin: 0, minWidth: 0 }}>
            {v}
          </dd>,
        ])}
    </dl>
  );
}
