import { Typography } from "antd";
import type { ReactNode } from "react";

/** What is for the screen alone stays off the paper. */
const onPaper = `
@media print {
  header, nav, .screen-only { display: none !important; }
  body { background: #fff !important; }
  .ant-layout-content { padding: 0 !important; }
  .ant-table { font-size: 10px !important; }
  .ant-table-cell { padding: 3px 5px !important; }
  tr { break-inside: avoid; }
}`;

/** Makes a page one that can be printed: elements of the class screen-only are left out. */
export function Paper() {
  return <style>{onPaper}</style>;
}

/** A part of a report, with its count. */
export function Part({ title, n, none, children }: { title: string; n: number; none: string; children: ReactNode }) {
  return (
    <section style={{ marginTop: 20 }}>
      <Typography.Title level={2} style={{ marginBottom: 6, fontSize: 14 }}>
        {title}
        {n > 0 && ` (${n})`}
      </Typography.Title>
      {n === 0 ? <Typography.Text type="secondary">{none}</Typography.Text> : children}
    </section>
  );
}
