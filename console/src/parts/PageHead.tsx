import { Typography } from "antd";
import type { ReactNode } from "react";

/** The head of a page, which the window is called after. sign comes before the title. */
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
    <div className="row gap-l middle many after-m">
      <title>{`${title} · Plum Latch`}</title>
      <Typography.Title level={1} className="page-title">
        {sign}
        {title}
      </Typography.Title>
      {note && <Typography.Text type="secondary">{note}</Typography.Text>}
      <div className="row many push">{children}</div>
    </div>
  );
}
