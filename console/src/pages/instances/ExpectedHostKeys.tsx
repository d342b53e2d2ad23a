import { Button, Form, Input } from "antd";
import { useState } from "react";
import { api, take, type HostKeysOf, type Instance } from "../../api/client";
import { useHostKeys, useMe } from "../../api/queries";
import { moment } from "../../format";
import { FormDialog } from "../../parts/FormDialog";
import { useAct } from "../../parts/useAct";

interface Wanted {
  sha256?: string;
  reason?: string;
}

/** The host keys that an instance will have, which are pinned once it shows them. */
export function ExpectedHostKeys({ of: i }: { of: Instance }) {
  const may = useMe().data?.role !== "viewer";
  const keys = useHostKeys(i.name);
  const [adding, setAdding] = useState(false);
  const expect = (sha256: string, reason: string, withdraw?: boolean) =>
    take(
      api.POST("/instances/{instance}/host-keys/expected", {
        params: { path: { instance: i.name } },
        body: { sha256, reason, withdraw },
      }),
    );
  const withdraw = useAct((sha256: string) => expect(sha256, "", true), "instances");
  return (
    <>
      {keys.data?.expected?.map((e) => (
        <div key={e.sha256}>
          expected: <code>{e.sha256}</code>{" "}
          <span className="nowrap">
            {e.by}, {moment(e.at)}: {e.reason}
          </span>{" "}
          {may && (
            <Button size="small" loading={withdraw.isPending} onClick={() => withdraw.mutate(e.sha256)}>
              Withdraw
            </Button>
          )}
        </div>
      ))}
      {may && (
        <Button size="small" onClick={() => setAdding(true)}>
          Expect another host key
        </Button>
      )}
      {adding && (
        <FormDialog<Wanted, HostKeysOf>
          title={`Expect another host key of ${i.name}`}
          act="Expect it"
          stale="instances"
          close={() => setAdding(false)}
          send={(v) => expect(v.sha256 ?? "", v.reason ?? "")}
        >
          <p>Once the machine shows just this host key, it is pinned. Until then the pinned ones count.</p>
          <Form.Item
            name="sha256"
            label="SHA-256 fingerprint"
            rules={[{ required: true, message: "Paste a fingerprint" }]}
          >
            <Input className="code" placeholder="SHA256:…" />
          </Form.Item>
          <Form.Item name="reason" label="Reason, for the daybook" rules={[{ required: true, message: "Say why" }]}>
            <Input maxLength={200} />
          </Form.Item>
        </FormDialog>
      )}
    </>
  );
}
