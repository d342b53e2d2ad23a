import { Typography } from "antd";
import type { ReactNode } from "react";

/** The head of a page, which the window is called after. sign stands before the title. */
export function PageHead({
  title,
  sign,
  note,
  children,
}: {
  title: string;
  sign?: ReactNode;
  note?: ReactNode;
  children?: ReactNode;
}) {
  return (
    <div style={{ display: "flex", alignItems: "center", gap: 16, marginBottom: 14, flexWrap: "wrap" }}>
      <title>{`${title} · Plum Latch`}</title>
      <Typography.Title
        level={1}
        style={{ margin: 0, fontSize: 20, display: "flex", alignItems: "center", gap: 10, overflowWrap: "anywhere" }}
      >
        {sign}
        {title}
      </Typography.Title>
      {note && <Typography.Text type="secondary">{note}</Typography.Text>}
      <div style={{ marginInlineStart: "auto", display: "flex", gap: 8, flexWrap: "wrap" }}>{children}</div>
    </div>
  );
}
