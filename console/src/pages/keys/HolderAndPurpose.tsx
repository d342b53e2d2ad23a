import { Form, Input, Select } from "antd";
import { useHolders } from "../../api/queries";

export const goodName = /^[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?$/;
export const nameRules = [
  { required: true, message: "Give it a name" },
  { pattern: goodName, message: "1 to 64 of a-z 0-9 . _ - and no blank" },
];

/** The two fields that every way of recording a key has. */
export function HolderAndPurpose() {
  const holders = useHolders();
  return (
    <div className="pair of-fields">
      <Form.Item name="holder" label="Holder, who has the private key">
        <Select
          allowClear
          showSearch
          placeholder="You"
          options={holders.data?.map((k) => ({ value: k.name, label: `${k.name} (${k.title})` }))}
        />
      </Form.Item>
      <Form.Item name="purpose" label="Purpose">
        <Input placeholder="deploys of the atlas" />
      </Form.Item>
    </div>
  );
}
