import { Typography } from "antd";
import type { ReactNode } from "react";

/** Makes a page one that can be printed: elements of the class screen-only are left out. */
export function Paper() {
  return <div hidden className="printed" />;
}

/** A part of a report, with its count. */
export function Part({ title, n, none, children }: { title: string; n: number; none: string; children: ReactNode }) {
  return (
    <section className="before-l">
      <Typography.Title level={2} className="part-title">
        {title}
        {n > 0 && ` (${n})`}
      </Typography.Title>
      {n === 0 ? <Typography.Text type="secondary">{none}</Typography.Text> : children}
    </section>
  );
}
