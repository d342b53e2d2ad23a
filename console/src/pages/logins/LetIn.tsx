import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Form, Input, Modal, Select } from "antd";
import { useState } from "react";
import { api, problemOf, requestKey, take, type EndBy } from "../../api/client";
import { useKeys, useLogin } from "../../api/queries";
import { counted } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { RunHere } from "../../parts/RunHere";

interface GrantForm {
  key: string;
  reason?: string;
  until?: string;
  endBy: EndBy;
  limits?: string;
}

const endBys: { value: EndBy; label: string }[] = [
  { value: "both", label: "the service and the SSH server" },
  { value: "service", label: "the service, which removes the line" },
  { value: "line", label: "the SSH server, by an expiry-time in the line" },
];

/** What came of a grant: the run that places its line, that it was so already, or why not. */
type Came = { run?: string; said?: string };

/** The end of a day, given as 2026-12-31, in the time zone of this browser. */
const endOfDay = (day: string) => new Date(`${day}T23:59:59`).toISOString();

/** Grants logins to a key and has its line placed in each, each in a run that is shown here. */
export default function LetIn({ logins, close }: { logins: string[]; close: () => void }) {
  const [form] = Form.useForm<GrantForm>();
  const queries = useQueryClient();
  const [came, setCame] = useState<Record<string, Came>>({});
  const grant = useMutation({
    mutationFn: async (v: GrantForm) => {
      for (const login of logins) {
        try {
          const g = await take(
            api.POST("/grants", {
              params: { header: { "Idempotency-Key": requestKey() } },
              body: {
                key: v.key,
                login,
                reason: v.reason || undefined,
                until: v.until ? endOfDay(v.until) : undefined,
                end_by: v.until ? v.endBy : undefined,
                limits: v.limits?.trim() || undefined,
              },
            }),
          );
          setCame((c) => ({ ...c, [login]: g.run ? { run: g.run.id } : { said: "its line is in place already" } }));
        } catch (e) {
          const p = problemOf(e);
          setCame((c) => ({ ...c, [login]: { said: [p.detail, p.remedy].filter(Boolean).join(". ") } }));
        }
      }
      await queries.invalidateQueries({ queryKey: ["reach"] });
    },
  });
  const one = logins.length === 1 ? logins[0] : undefined;
  const begun = grant.isPending || grant.isSuccess;
  const where = one ?? counted(logins.length, "login");
  return (
    <Modal
      open
      title={`Let a key in to ${where}`}
      onCancel={close}
      width={680}
      footer={
        begun ? (
          <Button type="primary" onClick={close}>
            Close
          </Button>
        ) : (
          <>
            <Button onClick={close}>Cancel</Button>
            <Button type="primary" onClick={() => form.submit()}>
              {one ? "Place its line" : `Place its line in ${where}`}
            </Button>
          </>
        )
      }
    >
      {begun ? (
        <ul className="bare-list" aria-live="polite">
          {logins.map((l) => (
            <li key={l} className="before-s">
              {!one && <strong className="strong">{l}: </strong>}
              {came[l]?.said ?? (came[l]?.run ? <RunHere id={came[l].run} steps={Boolean(one)} /> : "asked for")}
            </li>
          ))}
        </ul>
      ) : (
        <>
          {one && <NoMeans of={one} form={form} />}
          {!one && <p className="described">{logins.join(", ")}</p>}
          <Form
            form={form}
            layout="vertical"
            requiredMark={false}
            initialValues={{ endBy: "both" }}
            onFinish={(v) => grant.mutate(v)}
          >
            <Fields form={form} />
          </Form>
        </>
      )}
    </Modal>
  );
}

type TheForm = ReturnType<typeof Form.useForm<GrantForm>>[0];

function Fields({ form }: { form: TheForm }) {
  const [search, setSearch] = useState("");
  const keys = useKeys({ q: search || undefined, own: "false" });
  const until = Form.useWatch("until", form);
  return (
    <>
      <Form.Item name="key" label="Key" rules={[{ required: true, message: "Choose a key" }]}>
        <Select
          showSearch={{ filterOption: false, onSearch: setSearch }}
          placeholder="the key of a co-worker, or a second one of yours"
          options={keys.rows
            .filter((k) => k.state === "active")
            .map((k) => ({ value: k.name, label: `${k.name} (${k.holder?.name ?? "nobody"})` }))}
        />
      </Form.Item>
      <div className="columns two-one">
        <Form.Item name="reason" label="Why, for the daybook">
          <Input placeholder="cover for ines in May" />
        </Form.Item>
        <Form.Item name="until" label="Until the end of">
          <Input type="date" />
        </Form.Item>
      </div>
      <Form.Item name="limits" label="Limited to" extra="Options as sshd(8) writes them before a key; empty for none.">
        <Input placeholder='from="192.0.2.0/24",no-pty' className="code" />
      </Form.Item>
      {until && (
        <Form.Item name="endBy" label="Ended by">
          <Select options={endBys} />
        </Form.Item>
      )}
    </>
  );
}

/** Where the service has no means to place a line: why, and what to type where there is a key. */
function NoMeans({ of, form }: { of: string; form: TheForm }) {
  const login = useLogin(of);
  const key = (Form.useWatch("key", form) as string | undefined) ?? "KEY";
  if (!login.data?.no_means) return null;
  return (
    <Alert
      type="info"
      showIcon
      className="after-l"
      title={`The service cannot place the line: ${login.data.no_means}.`}
      description={
        <>
          From your machine, with a key that opens it:{" "}
          <CopyText text={`plumlatch grant add ${key} ${of} -with FILE`} label="command" />
        </>
      }
    />
  );
}
