import { Spin } from "antd";

export function Loading() {
  return (
    <div role="status" aria-label="Loading" className="alone centred">
      <Spin />
    </div>
  );
}
