import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Form, Input, Modal, Radio, Segmented } from "antd";
import { useState } from "react";
import { api, take, type Key } from "../../api/client";
import { CopyText } from "../../parts/CopyText";
import { Import } from "./Import";
import { ImportList } from "./ImportList";
import { goodName } from "./HolderAndPurpose";
import { HandOver, MakeByService, type Handed } from "./MakeByService";

type Way = "here" | "import" | "list" | "service";

interface Props {
  close: () => void;
  made?: (k: Key) => void;
}

/** The dialog in which a key is made on one's own machine, imported, or made by the service. */
export function NewKey({ close, made }: Props) {
  const [way, setWay] = useState<Way>("here");
  const [handed, setHanded] = useState<Handed>();
  const queries = useQueryClient();
  const recorded = (k: Key) => {
    void queries.invalidateQueries({ queryKey: ["keys"] });
    made?.(k);
  };
  if (handed) return <HandOver {...handed} close={close} />;
  return (
    <Modal
      open
      title="New key"
      footer={null}
      onCancel={close}
      width={way === "list" ? 860 : 760}
      mask={{ closable: false }}
    >
      <Segmented<Way>
        block
        value={way}
        onChange={setWay}
        className="after-l"
        options={[
          { value: "here", label: "Make it on my machine" },
          { value: "import", label: "Import a public key" },
          { value: "list", label: "Import a list" },
          { value: "service", label: "Let the service make it" },
        ]}
      />
      {way === "here" && (
        <MakeHere
          done={(k) => {
            recorded(k);
            close();
          }}
        />
      )}
      {way === "import" && (
        <Import
          done={(k) => {
            recorded(k);
            close();
          }}
        />
      )}
      {way === "list" && (
        <ImportList done={() => void queries.invalidateQueries({ queryKey: ["keys"] })} close={close} />
      )}
      {way === "service" && (
        <MakeByService
          done={(made) => {
            recorded(made.of);
            setHanded(made);
          }}
        />
      )}
    </Modal>
  );
}

/** Shows the command to type, and notices when the key has been recorded. */
function MakeHere({ done }: { done: (k: Key) => void }) {
  const [name, setName] = useState("");
  const [type, setType] = useState("ed25519");
  const good = goodName.test(name);
  const key = useQuery({
    queryKey: ["keys", name, "awaited"],
    enabled: good,
    retry: false,
    refetchInterval: 2000,
    queryFn: () => take(api.GET("/keys/{key}", { params: { path: { key: name } } })),
  });
  const [begun] = useState(() => Date.now());
  const found = key.data;
  const fresh = found && new Date(found.created_at).getTime() > begun - 2000;
  return (
    <>
      <p>The private key is made on your machine and never leaves it; only the public key is sent.</p>
      <Form layout="vertical">
        <Form.Item
          label="Name"
          validateStatus={name && !good ? "error" : undefined}
          help={name && !good ? "1 to 64 of a-z 0-9 . _ - and no blank" : undefined}
        >
          <Input autoFocus value={name} onChange={(e) => setName(e.target.value)} placeholder="atlas-deploy" />
        </Form.Item>
        <Form.Item label="Type">
          <Radio.Group
            value={type}
            onChange={(e) => setType(e.target.value as string)}
            options={[
              { value: "ed25519", label: "ed25519" },
              { value: "rsa", label: "rsa 3072 (Windows images take only rsa)" },
              { value: "ecdsa", label: "ecdsa 256" },
            ]}
          />
        </Form.Item>
      </Form>
      <p>Type this on your machine:</p>
      <CopyText
        block
        label="command"
        text={`plumlatch key new ${good ? name : "NAME"}${type === "ed25519" ? "" : ` -type ${type}`}`}
      />
      <div className="before-l" aria-live="polite">
        {found && !fresh && (
          <Alert type="error" showIcon title={`There is a key named ${name} already. Choose another name.`} />
        )}
        {found && fresh && (
          <Alert
            type="success"
            showIcon
            title={`${name} is recorded: ${found.fingerprints.sha256}`}
            action={
              <Button type="primary" onClick={() => done(found)}>
                Continue
              </Button>
            }
          />
        )}
        {!found && good && <Alert type="info" showIcon title={`Waiting for ${name} to be recorded…`} />}
      </div>
    </>
  );
}
