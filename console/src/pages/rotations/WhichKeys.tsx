import { Checkbox, Form, Input, InputNumber, Select } from "antd";
import { useState } from "react";
import type { RotationWanted } from "../../api/client";
import { useHolders, useKeys } from "../../api/queries";
import { counted } from "../../format";

export interface WhichKeysForm {
  keys?: string[];
  holder?: string;
  type?: string;
  older_days?: number;
  weaker_than?: string;
  shared?: boolean;
  lost?: boolean;
  label?: string;
  region?: string;
}

/** What the fields say, without those that are empty. */
export const selectionOf = (v: WhichKeysForm): RotationWanted => ({
  keys: v.keys?.length ? v.keys : undefined,
  holder: v.holder,
  type: v.type,
  older_days: v.older_days || undefined,
  weaker_than: v.weaker_than || undefined,
  shared: v.shared || undefined,
  lost: v.lost || undefined,
  label: v.label || undefined,
  region: v.region || undefined,
});

/** A selection in words. */
export function selectionText(w: RotationWanted): string {
  const parts: string[] = [];
  if (w.keys) parts.push(w.keys.join(", "));
  if (w.older_days) parts.push(`older than ${counted(w.older_days, "day")}`);
  if (w.weaker_than) parts.push(`weaker than ${w.weaker_than}`);
  if (w.type) parts.push(`of the type ${w.type}`);
  if (w.holder) parts.push(`of ${w.holder}`);
  if (w.shared) parts.push("shared");
  if (w.lost) parts.push("lost");
  if (w.instances) parts.push(`on ${w.instances.join(", ")}`);
  if (w.label) parts.push(`on ${w.label}`);
  if (w.region) parts.push(`in ${w.region}`);
  if (w.each === "instance") parts.push("one for each instance");
  return parts.join(", ");
}

/** The keys to choose from, as options of a select that searches. */
export function useKeyOptions() {
  const [search, setSearch] = useState("");
  const keys = useKeys({ q: search || undefined });
  return {
    options: keys.rows
      .filter((k) => !k.steward)
      .map((k) => ({
        value: k.name,
        label: `${k.name} (${k.holder?.name ?? "nobody"}, ${counted(k.opens, "login")})`,
      })),
    setSearch,
  };
}

/** The fields that say which keys, and where. All that are filled in must hold. */
export function WhichKeys() {
  const holders = useHolders();
  const { options, setSearch } = useKeyOptions();
  return (
    <div className="columns two-one-one-one of-fields">
      <Form.Item name="keys" label="Keys">
        <Select
          mode="multiple"
          showSearch={{ filterOption: false, onSearch: setSearch }}
          placeholder="any that match the rest"
          options={options}
        />
      </Form.Item>
      <Form.Item name="holder" label="Of the holder">
        <Select
          allowClear
          showSearch
          placeholder="any"
          options={holders.data?.map((k) => ({ value: k.name, label: k.name }))}
        />
      </Form.Item>
      <Form.Item name="older_days" label="Older than, days">
        <InputNumber min={1} className="full" placeholder="180" />
      </Form.Item>
      <Form.Item name="weaker_than" label="Weaker than">
        <Input placeholder="rsa3072" />
      </Form.Item>
      <Form.Item name="label" label="On instances with the label">
        <Input placeholder="team=cameras" />
      </Form.Item>
      <Form.Item name="region" label="In the region">
        <Input placeholder="south-marsh" />
      </Form.Item>
      <Form.Item name="type" label="Of the type">
        <Select
          allowClear
          placeholder="any"
          options={["ed25519", "rsa", "ecdsa"].map((t) => ({ value: t, label: t }))}
        />
      </Form.Item>
      <div className="middling">
        <Form.Item name="shared" valuePropName="checked" noStyle>
          <Checkbox>on more than one instance</Checkbox>
        </Form.Item>
        <Form.Item name="lost" valuePropName="checked" noStyle>
          <Checkbox>marked as lost</Checkbox>
        </Form.Item>
      </div>
    </div>
  );
}
