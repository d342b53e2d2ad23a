import { Typography } from "antd";
import type { ReactNode } from "react";

export function PageHead({ title, note, children }: { title: ReactNode; note?: ReactNode; children?: ReactNode }) {
  return (
    <div style={{ display: "flex", alignItems: "center", gap: 16, marginBottom: 14, flexWrap: "wrap" }}>
      <Typography.Title level={3} style={{ margin: 0, display: "flex", alignItems: "center", gap: 10 }}>{title}</Typography.Title>
      {note && <Typography.Text type="secondary">{note}</Typography.Text>}
      <div style={{ marginInlineStart: "auto", display: "flex", gap: 8 }}>{children}</div>
    </div>
  );
}
