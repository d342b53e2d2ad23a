import { Alert, App, Button, Card } from "antd";
import { useEffect, useRef, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import type { Visit } from "../../api/client";
import { useLook } from "../../look";
import { PageHead } from "../../parts/PageHead";
import type { OwnKey } from "../../privatekey/key";
import { Begin } from "./Begin";
import { Connection, type TerminalState } from "./connection";
import { Files } from "./Files";
import { endText } from "./ends";
import { newScreen } from "./screen";

/** A terminal to a login. The visit is in the URL, so that a page that is loaded again continues it. */
export default function TerminalPage() {
  const { name = "" } = useParams();
  const [params, setParams] = useSearchParams();
  const visit = params.get("visit");
  const [key, setKey] = useState<OwnKey>();
  const begun = (v: Visit, by?: OwnKey) => {
    setKey(by);
    setParams({ visit: v.id }, { replace: true });
  };
  return (
    <>
      <PageHead title={`Terminal to ${name}`}>
        <Link to={`/logins/${encodeURIComponent(name)}`}>
          <Button>Who gets in</Button>
        </Link>
      </PageHead>
      {visit ? (
        <Screen
          key={visit}
          id={visit}
          user={name.slice(0, name.lastIndexOf("@"))}
          by={key}
          again={() => setParams({}, { replace: true })}
        />
      ) : (
        <Begin login={name} begun={begun} />
      )}
    </>
  );
}

interface ScreenProps {
  id: string;
  user: string;
  by?: OwnKey;
  again: () => void;
}

function Screen({ id, user, by, again }: ScreenProps) {
  const { dark } = useLook();
  const { message } = App.useApp();
  const at = useRef<HTMLDivElement>(null);
  const actions = useRef<HTMLDivElement>(null);
  const [state, setState] = useState<TerminalState>({ at: "opening", text: "Connecting" });
  const [files, setFiles] = useState(false);
  const connection = useRef<Connection>(undefined);
  const screen = useRef<ReturnType<typeof newScreen>>(undefined);

  useEffect(() => {
    const { term, fit } = (screen.current = newScreen(at.current!, dark));
    const c = (connection.current = new Connection(id, user, by, {
      show: (bytes, shown) => term.write(bytes, shown),
      changed: (s) => {
        setState(s);
        if (s.at === "open") term.focus();
      },
      lost: () => term.clear(),
    }));
    term.onData((text) => c.type(text));
    term.onResize(({ cols, rows }) => c.resize(cols, rows));
    c.resize(term.cols, term.rows);
    term.attachCustomKeyEventHandler((e) => {
      if (e.key !== "F6") return true;
      if (e.type === "keydown") actions.current?.querySelector("button")?.focus();
      return false;
    });
    const fits = new ResizeObserver(() => fit());
    fits.observe(at.current!);
    return () => {
      fits.disconnect();
      c.drop();
      term.dispose();
    };
    // The look of a terminal that is open stays.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [id, user, by]);

  const copy = async () => {
    const text = screen.current?.term.getSelection() ?? "";
    if (!text) return void message.info("Select something in the terminal first");
    await navigator.clipboard.writeText(text);
    void message.success("Copied");
  };
  const paste = async () => {
    try {
      screen.current?.term.paste(await navigator.clipboard.readText());
      screen.current?.term.focus();
    } catch {
      void message.warning("The browser did not allow it: paste with Ctrl+Shift+V");
    }
  };
  return (
    <>
      <StateNote of={state} again={again} />
      <Card size="small" styles={{ body: { padding: 8 } }}>
        <div ref={at} className="terminal" role="group" aria-label={`Terminal to ${user}`} />
        <div ref={actions} className="row middle many before-s">
          <Button size="small" onClick={() => void copy()}>
            Copy the selection
          </Button>
          <Button size="small" onClick={() => void paste()} disabled={state.at !== "open"}>
            Paste
          </Button>
          <Button size="small" danger onClick={() => connection.current?.leave()} disabled={state.at === "over"}>
            End it
          </Button>
          <Button size="small" aria-expanded={files} onClick={() => setFiles(!files)} disabled={state.at !== "open"}>
            Files
          </Button>
          <span className="quiet small push">F6 leaves the terminal by keyboard</span>
        </div>
      </Card>
      {files && state.at === "open" && (
        <Card size="small" className="before-m">
          <Files visit={id} />
        </Card>
      )}
    </>
  );
}

function StateNote({ of, again }: { of: TerminalState; again: () => void }) {
  switch (of.at) {
    case "opening":
      return <Alert type="info" showIcon title={of.text} role="status" className="after-m" />;
    case "cut":
      return <Alert type="warning" showIcon title={of.text} role="alert" className="after-m" />;
    case "open":
      return of.recorded ? (
        <Alert type="warning" showIcon title="What you type and see here is recorded" className="after-m" />
      ) : null;
    case "over":
      return (
        <Alert
          type={of.how === "failed" || of.how === "cut" ? "error" : "info"}
          showIcon
          role="alert"
          title={endText(of.how)}
          description={of.why}
          className="after-m"
          action={
            <Button size="small" onClick={again}>
              Open another
            </Button>
          }
        />
      );
  }
}
