import { Empty } from "antd";
import type { ReactNode } from "react";

/** Says that there is nothing here, and what to do first. */
export function EmptyNote({ text, children }: { text: string; children?: ReactNode }) {
  return (
    <Empty image={Empty.PRESENTED_IMAGE_SIMPLE} description={text}>
      {children}
    </Empty>
  );
}
