import { Form, Input } from "antd";

/** Labels as they are written in one line: name=value name=value. */
export function labelsOf(text: string | undefined): Record<string, string> | undefined {
  const parts = (text ?? "").split(/[\s,]+/).filter(Boolean);
  if (parts.length === 0) return undefined;
  return Object.fromEntries(
    parts.map((p) => {
      const [name = "", ...rest] = p.split("=");
      return [name, rest.join("=")];
    }),
  );
}

export function LabelsInput({ name, label }: { name: string; label: string }) {
  return (
    <Form.Item
      name={name}
      label={label}
      extra="Labels with blanks between; empty for all instances."
      rules={[
        {
          validator: (_, text?: string) =>
            (text ?? "")
              .split(/[\s,]+/)
              .filter(Boolean)
              .every((p) => /^[^=]+=/.test(p))
              ? Promise.resolve()
              : Promise.reject(new Error("A label is written name=value")),
        },
      ]}
    >
      <Input placeholder="team=cameras" />
    </Form.Item>
  );
}
