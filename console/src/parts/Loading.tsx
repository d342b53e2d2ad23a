import { Spin } from "antd";

export function Loading() {
  return (
    <div role="status" aria-label="Loading" style={{ padding: 80, textAlign: "center" }}>
      <Spin />
    </div>
  );
}
