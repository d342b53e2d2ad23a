import { App, Button, Checkbox, Dropdown, Form, Input, Popover } from "antd";
import { useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { useMe, type Pages } from "../../api/queries";
import { counted, plural } from "../../format";
import { FormDialog } from "../FormDialog";
import { usePlace } from "../usePlace";
import type { Column } from "./column";
import { csvOf } from "./csv";
import { dropView, saveView, viewsOf } from "./views";

interface Props<T> {
  pages: Pages<T>;
  columns: Column<T>[];
  shown: Column<T>[];
  noun: string;
}

/** What every list offers: saved views, which columns are shown, and what is shown as a CSV file. */
export const Tools = <T,>({ pages, columns, shown, noun }: Props<T>) => (
  <div className="row gap-xs push">
    <Views />
    <Columns columns={columns} shown={shown} />
    <Csv pages={pages} shown={shown} noun={noun} />
  </div>
);

/** The views of this list that the person saved in this browser. */
function Views() {
  const { pathname, search } = useLocation();
  const navigate = useNavigate();
  const person = useMe().data?.name ?? "";
  const [, setRead] = useState(0);
  const [naming, setNaming] = useState(false);
  const again = () => setRead((n) => n + 1);
  const views = viewsOf(person, pathname);
  const now = views.find((v) => v.search === search);
  return (
    <>
      <Dropdown
        trigger={["click"]}
        menu={{
          selectedKeys: now && [now.name],
          items: [
            ...views.map((v) => ({
              key: v.name,
              label: v.name,
              onClick: () => void navigate(pathname + v.search),
            })),
            ...(views.length > 0 ? [{ type: "divider" as const }] : []),
            { key: " save", label: "Save what is shown…", onClick: () => setNaming(true) },
            ...(now
              ? [
                  {
                    key: " forget",
                    label: `Forget the view ${now.name}`,
                    onClick: () => {
                      dropView(person, pathname, now.name);
                      again();
                    },
                  },
                ]
              : []),
            { key: " all", label: "Show all", disabled: search === "", onClick: () => void navigate(pathname) },
          ],
        }}
      >
        <Button>Views ▾</Button>
      </Dropdown>
      {naming && (
        <FormDialog<{ name: string }, void>
          title="Save this view"
          act="Save it"
          close={() => setNaming(false)}
          send={({ name }) => {
            saveView(person, pathname, { name: name.trim(), search });
            return Promise.resolve();
          }}
          done={again}
        >
          <p className="described">
            It keeps the filters, the order and the columns, in this browser. The address of the page shows the same to
            anybody else.
          </p>
          <Form.Item name="name" label="Name" rules={[{ required: true, whitespace: true, message: "Give it a name" }]}>
            <Input maxLength={60} />
          </Form.Item>
        </FormDialog>
      )}
    </>
  );
}

function Columns<T>({ columns, shown }: { columns: Column<T>[]; shown: Column<T>[] }) {
  const { set } = usePlace();
  // What is ticked, which the address follows.
  const [ticked, setTicked] = useState<string[]>();
  const told = columns.filter((c) => c.text);
  const usual = told.filter((c) => !c.extra).map((c) => c.key);
  const change = (keys: string[]) => {
    const wanted = told.map((c) => c.key).filter((k) => keys.includes(k));
    if (wanted.length === 0) return;
    setTicked(wanted);
    set("columns", wanted.join() === usual.join() ? undefined : wanted.join());
  };
  return (
    <Popover
      trigger="click"
      placement="bottomRight"
      onOpenChange={() => setTicked(undefined)}
      content={
        <Checkbox.Group
          className="stack gap-xs"
          value={ticked ?? shown.filter((c) => c.text).map((c) => c.key)}
          options={told.map((c) => ({ value: c.key, label: c.title }))}
          onChange={change}
        />
      }
    >
      <Button>Columns ▾</Button>
    </Popover>
  );
}

/** Reads the list to its end, and writes what its columns show. */
function Csv<T>({ pages, shown, noun }: Pick<Props<T>, "pages" | "shown" | "noun">) {
  const { message } = App.useApp();
  const [busy, setBusy] = useState(false);
  const write = async () => {
    setBusy(true);
    try {
      let rows = pages.rows;
      let more = pages.hasNextPage;
      while (more) {
        const read = await pages.fetchNextPage();
        if (read.error) throw read.error;
        rows = read.data?.pages.flatMap((p) => p.items) ?? rows;
        more = read.hasNextPage;
      }
      const at = URL.createObjectURL(new Blob([csvOf(shown, rows)], { type: "text/csv" }));
      const link = document.createElement("a");
      link.href = at;
      link.download = `${plural(noun).replaceAll(" ", "-")}.csv`;
      link.click();
      setTimeout(() => URL.revokeObjectURL(at), 60_000);
    } catch (e) {
      void message.error(`The list could not be read to its end: ${(e as Error).message}`);
    } finally {
      setBusy(false);
    }
  };
  return (
    <Button
      onClick={() => void write()}
      disabled={busy || pages.rows.length === 0}
      title={`All ${counted(pages.total, noun)} that match, with these columns`}
    >
      {busy ? `Reading ${pages.rows.length} of ${pages.total}` : "CSV"}
    </Button>
  );
}
