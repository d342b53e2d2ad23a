import { Button, Form, Input, Radio } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Instance } from "../../api/client";
import { useMe } from "../../api/queries";
import { FormDialog } from "../../parts/FormDialog";

interface Wanted {
  how?: "via" | "direct" | "rules";
  via?: string;
}

/** By way of which jump hosts an instance is reached, and the change of that. */
export function Way({ of: i }: { of: Instance }) {
  const role = useMe().data?.role;
  const [open, setOpen] = useState(false);
  const hops = i.connection.via ?? [];
  return (
    <span className="inline">
      {hops.length === 0 && "straight"}
      {hops.map((h, n) => (
        <span key={h.instance || n}>
          {n > 0 && "then "}
          {h.hidden ? (
            "a jump host that you may not see"
          ) : (
            <Link to={`/instances/${encodeURIComponent(h.instance)}`}>{h.instance}</Link>
          )}
        </span>
      ))}
      {role !== "viewer" && (
        <Button size="small" onClick={() => setOpen(true)}>
          Change
        </Button>
      )}
      {open && (
        <FormDialog<Wanted, { changed: number }>
          title={`How ${i.name} is reached`}
          act="Change it"
          stale="instances"
          close={() => setOpen(false)}
          initial={{ how: hops.length > 0 ? "via" : "direct", via: hops.at(-1)?.instance }}
          send={(v) =>
            take(
              api.POST("/jumps", {
                body: { instances: [i.name], via: v.how === "via" ? v.via : undefined, direct: v.how === "direct" },
              }),
            )
          }
        >
          <Form.Item name="how" label="It is reached">
            <Radio.Group
              options={[
                { value: "via", label: "by way of a jump host" },
                { value: "direct", label: "straight" },
                { value: "rules", label: "as the rules say" },
              ]}
            />
          </Form.Item>
          <Form.Item
            name="via"
            label="Jump host"
            extra="An instance that you and this service can open; the service uses its steward key."
          >
            <Input placeholder="gateway-1" />
          </Form.Item>
        </FormDialog>
      )}
    </span>
  );
}
