import { App, Button, Form, Input } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, take, type Key } from "../../api/client";
import { labelRules, labelsOf, labelsText } from "../../labels";
import { FormDialog } from "../../parts/FormDialog";
import { nameRules } from "./HolderAndPurpose";

interface ChangeForm {
  name: string;
  purpose?: string;
  labels?: string;
}

/** Changes the record of a key: its name, purpose and labels. */
export function Change({ of }: { of: Key }) {
  const [open, setOpen] = useState(false);
  const { message } = App.useApp();
  const navigate = useNavigate();
  const send = (v: ChangeForm) => {
    const set_labels = labelsOf(v.labels);
    return take(
      api.PATCH("/keys/{key}", {
        params: { path: { key: of.name } },
        body: {
          name: v.name,
          purpose: v.purpose ?? "",
          set_labels,
          remove_labels: Object.keys(of.labels).filter((l) => !(l in set_labels)),
        },
      }),
    );
  };
  return (
    <>
      <Button onClick={() => setOpen(true)}>Change</Button>
      {open && (
        <FormDialog<ChangeForm, Key>
          title={`Change ${of.name}`}
          act="Change it"
          stale="keys"
          initial={{ name: of.name, purpose: of.purpose, labels: labelsText(of.labels) }}
          close={() => setOpen(false)}
          send={send}
          done={(k) => {
            void message.success(`${k.name} is changed`);
            void navigate(`/keys/${encodeURIComponent(k.name)}`, { replace: true });
          }}
        >
          <Form.Item name="name" label="Name" rules={nameRules}>
            <Input />
          </Form.Item>
          <Form.Item name="purpose" label="Purpose">
            <Input />
          </Form.Item>
          <Form.Item name="labels" label="Labels" rules={labelRules}>
            <Input placeholder="team=atlas, env=test" />
          </Form.Item>
        </FormDialog>
      )}
    </>
  );
}
