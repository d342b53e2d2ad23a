import { Button, Form, Input } from "antd";
import { useState } from "react";
import { api, take, type Key } from "../../api/client";
import { FormDialog } from "../../parts/FormDialog";
import { ProveButton } from "../../parts/Prove";

/** Takes it back that a key is lost, by its holder, who has just proved that they have it. */
export function Found({ of: k }: { of: Key }) {
  const [asking, setAsking] = useState(false);
  return (
    <>
      <Button size="small" onClick={() => setAsking(true)}>
        It was found again
      </Button>
      {asking && (
        <FormDialog<{ reason: string }, Key>
          title={`${k.name} was found again`}
          act="It is not lost"
          stale="keys"
          close={() => setAsking(false)}
          send={(body) => take(api.POST("/keys/{key}/found", { params: { path: { key: k.name } }, body }))}
        >
          <p>
            Its holder says so, who has proved in the last ten minutes that they have the private key:{" "}
            <ProveButton of={k.name} small />
          </p>
          <Form.Item name="reason" label="Why, for the daybook" rules={[{ required: true, message: "Say why" }]}>
            <Input placeholder="the tablet was on the boat" />
          </Form.Item>
        </FormDialog>
      )}
    </>
  );
}

/** Destroys the copy in the safe, once somebody has just proved that they have the private key. */
export function Forget({ of: k }: { of: Key }) {
  const [asking, setAsking] = useState(false);
  return (
    <>
      <Button size="small" danger onClick={() => setAsking(true)}>
        Forget the kept copy
      </Button>
      {asking && (
        <FormDialog<object, Key>
          title={`Forget the private key of ${k.name}?`}
          act="Forget it"
          danger
          stale="keys"
          close={() => setAsking(false)}
          send={() => take(api.POST("/keys/{key}/private-key/forgetting", { params: { path: { key: k.name } } }))}
        >
          <p>
            The copy in the safe is destroyed; there is no undo. Prove first that you have the private key:{" "}
            <ProveButton of={k.name} small />
          </p>
        </FormDialog>
      )}
    </>
  );
}
