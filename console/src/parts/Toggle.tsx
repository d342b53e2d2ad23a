import { Switch } from "antd";
import type { ReactNode } from "react";

/** A switch with its words; change is given "true", or undefined where it is switched off, as in a page's address. */
export function Toggle(props: { on: boolean; change: (to: "true" | undefined) => void; children: ReactNode }) {
  return (
    <label className="inline middle">
      <Switch size="small" checked={props.on} onChange={(on) => props.change(on ? "true" : undefined)} />
      {props.children}
    </label>
  );
}
