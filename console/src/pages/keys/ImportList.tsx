import { useMutation } from "@tanstack/react-query";
import { Alert, Button, Form, Input, Table } from "antd";
import { useState } from "react";
import { api, take } from "../../api/client";
import type { components } from "../../api/contract.gen";
import { counted, typeText } from "../../format";
import { KeyGlyph } from "../../parts/KeyGlyph";
import { ProblemNote } from "../../parts/ProblemNote";
import { holdsPrivate } from "../../privateMarks";
import { HolderAndPurpose, nameRules } from "./HolderAndPurpose";

type Line = components["schemas"]["ListLine"];
interface ListForm {
  prefix: string;
  text: string;
  holder?: string;
  purpose?: string;
}

/** Reads a list of keys, shows what each line is, and records those that are wanted. */
export function ImportList({ done, close }: { done: () => void; close: () => void }) {
  const [form] = Form.useForm<ListForm>();
  const text = (Form.useWatch("text", form) as string | undefined) ?? "";
  const [chosen, setChosen] = useState<number[]>([]);
  const read = useMutation({
    mutationFn: (v: ListForm) => take(api.POST("/keys/list-readings", { body: { text: v.text, prefix: v.prefix } })),
    onSuccess: (r) => setChosen(r.lines.filter(fresh).map((l) => l.line)),
  });
  const save = useMutation({
    mutationFn: (lines: Line[]) => {
      const v = form.getFieldsValue();
      return take(
        api.POST("/keys/lists", {
          body: {
            keys: lines.map((l) => ({ name: l.name ?? "", public_key: l.public_key ?? "" })),
            holder: v.holder,
            purpose: v.purpose || undefined,
          },
        }),
      );
    },
    onSuccess: done,
  });
  if (save.data) {
    const recorded = save.data.filter((r) => r.state === "recorded").length;
    const others = save.data.filter((r) => r.state !== "recorded");
    return (
      <div className="stack">
        <Alert
          type={others.length ? "warning" : "success"}
          showIcon
          title={`${recorded} of ${save.data.length} keys are recorded.`}
          description={others.map((r) => (
            <div key={r.name}>
              {r.name}: {r.state} {r.known_as} {r.detail}
            </div>
          ))}
        />
        <div>
          <Button type="primary" onClick={close}>
            Close
          </Button>
        </div>
      </div>
    );
  }
  const lines = read.data?.lines;
  return (
    <Form
      form={form}
      layout="vertical"
      requiredMark={false}
      onFinish={(v) => read.mutate(v)}
      onValuesChange={() => {
        read.reset();
        save.reset();
      }}
    >
      <Form.Item
        name="prefix"
        label="Their names begin with"
        extra="Each key's comment, or its place in the list, follows."
        rules={nameRules}
      >
        <Input autoFocus placeholder="ringing" />
      </Form.Item>
      <Form.Item
        name="text"
        label="One key to a line, as in an authorized_keys file"
        rules={[{ required: true, message: "Paste the list" }]}
      >
        <Input.TextArea
          rows={lines ? 3 : 6}
          spellCheck={false}
          className="code"
          placeholder={"ssh-ed25519 AAAAC3Nza… ines\nssh-rsa AAAAB3Nza… oona"}
        />
      </Form.Item>
      {holdsPrivate(text) && (
        <Alert
          type="error"
          showIcon
          role="alert"
          title="There is a private key in this text. It stayed in this page and was not sent."
          description={
            "Take it out. If it went over a network before, by mail or chat, treat it as exposed and make a new " +
            "pair."
          }
          className="after-l"
        />
      )}
      <HolderAndPurpose />
      {read.error && (
        <Form.Item>
          <ProblemNote error={read.error} />
        </Form.Item>
      )}
      {lines && <Preview lines={lines} notes={read.data?.notes ?? []} chosen={chosen} choose={setChosen} />}
      {save.error && (
        <Form.Item>
          <ProblemNote error={save.error} />
        </Form.Item>
      )}
      {lines ? (
        <Button
          type="primary"
          disabled={chosen.length === 0}
          loading={save.isPending}
          onClick={() => save.mutate(lines.filter((l) => chosen.includes(l.line)))}
        >
          Import {counted(chosen.length, "key")}
        </Button>
      ) : (
        <Button type="primary" htmlType="submit" loading={read.isPending} disabled={holdsPrivate(text)}>
          Read it
        </Button>
      )}
    </Form>
  );
}

const fresh = (l: Line) => !l.refused && !l.known_as;

function Preview({
  lines,
  notes,
  chosen,
  choose,
}: {
  lines: Line[];
  notes: string[];
  chosen: number[];
  choose: (lines: number[]) => void;
}) {
  return (
    <div className="stack gap-m after-l">
      {notes.length > 0 && <Alert type="info" showIcon title={`Repaired: ${notes.join("; ")}.`} />}
      <Table<Line>
        size="small"
        rowKey="line"
        dataSource={lines}
        pagination={lines.length > 50 ? { pageSize: 50 } : false}
        scroll={{ y: 260 }}
        rowSelection={{
          selectedRowKeys: chosen,
          onChange: (keys) => choose(keys as number[]),
          getCheckboxProps: (l) => ({ disabled: !fresh(l), "aria-label": `line ${l.line}` }),
        }}
        columns={[
          { title: "Line", dataIndex: "line", width: 60 },
          {
            title: "Name",
            render: (_, l) =>
              l.refused ? (
                <span>refused: {l.refused}</span>
              ) : (
                <span className="inline middle">
                  <KeyGlyph sha256={l.sha256 ?? ""} size={20} />
                  {l.known_as ?? l.name}
                </span>
              ),
          },
          { title: "Type", width: 120, render: (_, l) => l.type && typeText(l.type, l.bits ?? 0) },
          {
            title: "What will be done",
            width: 180,
            render: (_, l) =>
              l.refused ? "nothing" : l.known_as ? "known already" : chosen.includes(l.line) ? "recorded" : "left out",
          },
        ]}
      />
    </div>
  );
}
