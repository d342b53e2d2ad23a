import { Checkbox, Form, Input, InputNumber } from "antd";
import type { RotationSettings } from "../../api/client";
import { counted, graceText } from "../../format";

export interface SettingsForm {
  first?: number;
  then_go?: boolean;
  stop_after?: number;
  between?: string;
  zone?: string;
  grace_hours?: number;
  reason?: string;
}

export const localZone = () => Intl.DateTimeFormat().resolvedOptions().timeZone;

export const settingsOf = (v: SettingsForm): RotationSettings => ({
  first: v.first || undefined,
  then_go: (v.first && v.then_go) || undefined,
  stop_after: v.stop_after || undefined,
  between: v.between || undefined,
  zone: v.zone || undefined,
  grace_seconds: v.grace_hours ? Math.round(v.grace_hours * 3600) : undefined,
});

/** Settings in words. */
export function settingsText(t: RotationSettings): string {
  const parts: string[] = [];
  if (t.between) parts.push(`${t.between} ${t.zone ?? "UTC"}`);
  if (t.first) parts.push(t.then_go ? `${t.first} first` : `${t.first} first, then waits for a word`);
  if (t.grace_seconds) parts.push(`grace ${graceText(t.grace_seconds)}`);
  if (t.stop_after) parts.push(`pauses after ${counted(t.stop_after, "failure")}`);
  return parts.join(", ") || "at once";
}

/** The fields that say how a rotation goes about it. */
export function Settings() {
  return (
    <div className="columns five of-fields">
      <Form.Item name="first" label="A first group of" extra="the rest waits until you resume it">
        <InputNumber min={0} className="full" placeholder="none" />
      </Form.Item>
      <Form.Item name="then_go" label="After the first group" valuePropName="checked">
        <Checkbox>continue by itself</Checkbox>
      </Form.Item>
      <Form.Item name="stop_after" label="Pause after failures">
        <InputNumber min={0} className="full" placeholder="never" />
      </Form.Item>
      <Form.Item name="grace_hours" label="Grace, hours" extra="overlap period, both keys work">
        <InputNumber min={0} className="full" placeholder="none" />
      </Form.Item>
      <Form.Item name="between" label="Only between">
        <Input placeholder="22:00-04:00" />
      </Form.Item>
      <Form.Item name="zone" label="in the time zone">
        <Input />
      </Form.Item>
    </div>
  );
}
