import { useMutation } from "@tanstack/react-query";
import { Button, Card, Checkbox, Form, Input, Upload } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, take, type CharterComparison, type CharterFile, type CharterSettlement } from "../../api/client";
import { useMe } from "../../api/queries";
import { counted } from "../../format";
import { FormDialog } from "../../parts/FormDialog";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { Comparison } from "./Comparison";

interface Wanted {
  reason?: string;
  partly?: boolean;
}

/** Compares files of a charter that are dropped or pasted, and settles just what was shown. */
export default function Compare() {
  const [files, setFiles] = useState<CharterFile[]>([]);
  const [pasted, setPasted] = useState("");
  const [settling, setSettling] = useState(false);
  const may = useMe().data?.role !== "viewer";
  const go = useNavigate();
  const all = pasted.trim() ? [...files, { path: "pasted.yaml", content: pasted }] : files;
  const compare = useMutation({
    mutationFn: () => take(api.POST("/charter-comparisons", { body: { files: all } })),
  });
  const c = compare.data;
  const changed = () => compare.reset();
  return (
    <>
      <PageHead title="Compare a charter" note="nothing is kept, and nothing is changed" />
      <Card size="small" className="after-m">
        <Upload.Dragger
          multiple
          showUploadList={false}
          accept=".yaml,.yml,.json,.pub"
          beforeUpload={(file) => {
            const path = file.webkitRelativePath || file.name;
            void file.text().then((content) => {
              changed();
              setFiles((now) => [...now.filter((f) => f.path !== path), { path, content }]);
            });
            return false;
          }}
        >
          Drop the files of a charter here, or choose them: YAML or JSON, and the public keys that they name
        </Upload.Dragger>
        {files.map((f) => (
          <div key={f.path}>
            <code>{f.path}</code>{" "}
            <Button
              size="small"
              type="text"
              onClick={() => {
                changed();
                setFiles(files.filter((o) => o.path !== f.path));
              }}
            >
              Remove {f.path}
            </Button>
          </div>
        ))}
        <Form layout="vertical" className="before-m" onFinish={() => compare.mutate()}>
          <Form.Item label="Or paste one">
            <Input.TextArea
              rows={8}
              className="code"
              aria-label="Or paste one"
              value={pasted}
              onChange={(e) => {
                changed();
                setPasted(e.target.value);
              }}
              placeholder={"charter: field\naccess:\n  - who: {keys: [oona-main]}\n    logins: [debian@tide-gauge-*]"}
            />
          </Form.Item>
          <Button type="primary" htmlType="submit" disabled={all.length === 0} loading={compare.isPending}>
            Compare
          </Button>
        </Form>
      </Card>
      {compare.error && <ProblemNote error={compare.error} />}
      {c && <Comparison of={c} />}
      {c && may && c.changes.length > 0 && c.flaws.length === 0 && !c.refused && (
        <Button type="primary" onClick={() => setSettling(true)}>
          Settle {counted(c.changes.length, "change")}
        </Button>
      )}
      {settling && c && (
        <SettleDialog
          of={c}
          files={all}
          close={() => setSettling(false)}
          done={() => void go(`/charters/${encodeURIComponent(c.charter)}`)}
        />
      )}
    </>
  );
}

function SettleDialog({
  of: c,
  files,
  close,
  done,
}: {
  of: CharterComparison;
  files: CharterFile[];
  close: () => void;
  done: () => void;
}) {
  const unable = c.changes.filter((r) => r.unable).length;
  return (
    <FormDialog<Wanted, CharterSettlement>
      title={`Settle ${c.charter}`}
      act="Settle it"
      stale="charters"
      close={close}
      done={done}
      send={(v) =>
        take(
          api.POST("/charter-settlements", {
            body: { files, as: c.id, reason: v.reason || undefined, partly: v.partly },
          }),
        )
      }
    >
      <p>
        {counted(c.changes.length, "change")}, just as shown: it is refused if anything has changed since. What lets
        somebody in is done first.
      </p>
      {unable > 0 && (
        <Form.Item name="partly" valuePropName="checked">
          <Checkbox>Leave out {counted(unable, "change")} that cannot be made now</Checkbox>
        </Form.Item>
      )}
      <Form.Item name="reason" label="Reason, for the daybook">
        <Input maxLength={200} />
      </Form.Item>
    </FormDialog>
  );
}
