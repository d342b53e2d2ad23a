import { useQuery } from "@tanstack/react-query";
import { Alert, Button, Input, Modal } from "antd";
import { useEffect, useId, useRef, useState, type KeyboardEvent, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { api, take, type Named, type Traced } from "../api/client";
import { useSettled } from "./useSettled";
import { further, places } from "../places";
import { day, moment } from "../format";
import { holdsPrivate } from "../privateMarks";
import { KeyGlyph } from "./KeyGlyph";
import { KeyName } from "./KeyName";
import { ProblemNote } from "./ProblemNote";

const typing = (e: Element | null) =>
  e instanceof HTMLElement && (["INPUT", "TEXTAREA"].includes(e.tagName) || e.isContentEditable);

/** The box on every page that jumps to anything with a name, and says what a fingerprint or a public key is. */
export function Find({ narrow }: { narrow: boolean }) {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const jump = (e: globalThis.KeyboardEvent) => {
      const slash = e.key === "/" && !typing(document.activeElement) && !document.querySelector("[data-search]");
      if (!slash && !(e.key.toLowerCase() === "k" && (e.ctrlKey || e.metaKey))) return;
      e.preventDefault();
      setOpen(true);
    };
    document.addEventListener("keydown", jump);
    return () => document.removeEventListener("keydown", jump);
  }, []);
  return (
    <>
      <Button type="text" aria-keyshortcuts="Control+K" className="on-head" onClick={() => setOpen(true)}>
        Find
        {!narrow && (
          <span aria-hidden className="faint">
            Ctrl K
          </span>
        )}
      </Button>
      {open && <Box close={() => setOpen(false)} />}
    </>
  );
}

/** Whether a text is a fingerprint or a public key rather than a name. */
function isKeyText(text: string): boolean {
  return (
    /[0-9a-f]{20}/i.test(text.replace(/[\s:.-]/g, "")) ||
    /[A-Za-z0-9+/]{40}/.test(text) ||
    /^(sha|md5)/i.test(text) ||
    text.includes("\n")
  );
}

const pathOf = (n: Named) => {
  const name = encodeURIComponent(n.name);
  return {
    instance: `/instances/${name}`,
    login: `/logins/${name}`,
    key: `/keys/${name}`,
    person: `/keys?holder=${name}`,
    team: `/keys?holder=${name}`,
    stranger: `/logins/${name}`,
  }[n.kind];
};

interface Choice {
  to: string;
  kind: string;
  name: string;
  about: string;
  sign?: ReactNode;
}

/**
 * What is named like the text, then the pages; none for "". fresh is whether that is the answer to this very
 * text.
 */
function useChoices(text: string, off: boolean): { choices: Choice[]; fresh: boolean; error: Error | null } {
  const settled = useSettled(text, 120);
  const found = useQuery({
    queryKey: ["names", settled],
    enabled: settled !== "" && !off,
    retry: false,
    queryFn: () => take(api.GET("/names", { params: { query: { q: settled } } })),
  });
  const named = text === "" ? [] : (found.data ?? []);
  const pages = [...places, ...further].filter((p) => p.text.toLowerCase().includes(text.toLowerCase()));
  return {
    choices: [
      ...named.map((n) => ({
        to: pathOf(n),
        kind: n.kind,
        name: n.name,
        about: n.about,
        sign: n.sha256 && <KeyGlyph sha256={n.sha256} size={18} />,
      })),
      ...pages.map((p) => ({ to: p.to, kind: "page", name: p.text, about: "" })),
    ],
    fresh: settled === text && !found.isFetching,
    error: found.error,
  };
}

function Box({ close }: { close: () => void }) {
  const navigate = useNavigate();
  const list = useId();
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const [entered, setEntered] = useState(false); // Enter was struck, perhaps before the answer was there
  const wanted = text.trim();
  const secret = holdsPrivate(text);
  const keyText = secret || isKeyText(wanted);
  const { choices, fresh, error } = useChoices(keyText ? "" : wanted, keyText);
  const active = Math.min(at, choices.length - 1);
  const go = (to: string) => {
    close();
    void navigate(to);
  };
  const press = (e: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (keyText || (step === undefined && e.key !== "Enter")) return;
    e.preventDefault();
    if (step !== undefined) setAt((active + step + choices.length) % Math.max(1, choices.length));
    else setEntered(true);
  };
  const chosen = choices[active]?.to;
  useEffect(() => {
    if (entered && fresh && chosen !== undefined) go(chosen);
  });
  return (
    <Modal open title="Find" footer={null} onCancel={close} width={720}>
      <Input.TextArea
        autoFocus
        autoSize={{ minRows: 1, maxRows: 6 }}
        spellCheck={false}
        value={text}
        onKeyDown={press}
        onChange={(e) => {
          setText(e.target.value);
          setAt(0);
          setEntered(false);
        }}
        aria-label="A name, a fingerprint or a public key"
        placeholder="Part of a name or an address, a fingerprint in any notation, a public key"
        role="combobox"
        aria-expanded={!keyText}
        aria-controls={list}
        aria-activedescendant={keyText || choices.length === 0 ? undefined : `${list}-${active}`}
      />
      <div className="stack gap-m before-m" aria-live="polite">
        {secret && (
          <Alert
            type="error"
            showIcon
            role="alert"
            title="This is a private key. It stayed in this page and was not sent."
            description="On your own machine, plumlatch trace FILE derives the public key and asks with that."
          />
        )}
        {keyText && !secret && <Tracing text={text} close={close} />}
        {error && <ProblemNote error={error} />}
        {!keyText && choices.length === 0 && fresh && <p className="flush">No matches.</p>}
      </div>
      {!keyText && <Choices id={list} choices={choices} active={active} over={setAt} go={go} />}
    </Modal>
  );
}

function Choices({
  id,
  choices,
  active,
  over,
  go,
}: {
  id: string;
  choices: Choice[];
  active: number;
  over: (n: number) => void;
  go: (to: string) => void;
}) {
  const now = useRef<HTMLLIElement>(null);
  useEffect(() => {
    void now.current?.scrollIntoView({ block: "nearest" });
  }, [active]);
  return (
    <>
      <ul id={id} role="listbox" aria-label="Found" className="bare-list at-most-high scrolls">
        {choices.map((c, n) => (
          // The keys are those of the combobox above, which keeps the focus.
          // eslint-disable-next-line jsx-a11y/click-events-have-key-events
          <li
            key={c.kind + c.to}
            id={`${id}-${n}`}
            ref={n === active ? now : undefined}
            role="option"
            aria-selected={n === active}
            onMouseMove={() => over(n)}
            onClick={() => go(c.to)}
            className="choice"
          >
            <span className="described">{c.kind}</span>
            <span className="row middle strong">
              {c.sign}
              {c.name}
            </span>
            <span className="described">{c.about}</span>
          </li>
        ))}
      </ul>
      <p className="flush before-m described">Arrows choose, Enter goes there. In a list, / jumps to its own search.</p>
    </>
  );
}

/** Which record a fingerprint or a public key is, and what it opens. */
function Tracing({ text, close }: { text: string; close: () => void }) {
  const trace = useQuery({
    queryKey: ["trace", text],
    retry: false,
    gcTime: 0,
    queryFn: () => take(api.POST("/traces", { body: { text } })),
  });
  if (trace.error) return <ProblemNote error={trace.error} />;
  if (!trace.data) return null;
  return (
    <>
      <p className="flush">Read as {trace.data.read_as}.</p>
      {trace.data.matches.map((m) => (
        <Match key={m.kind + m.name + (m.former?.path ?? "")} of={m} close={close} />
      ))}
      {trace.data.matches.length === 0 && (
        <Alert
          type="warning"
          showIcon
          title="Nothing that is recorded matches."
          description={`Compared with: ${trace.data.compared.join("; ")}.`}
        />
      )}
    </>
  );
}

function Match({ of, close }: { of: Traced; close: () => void }) {
  if (of.kind === "host key") {
    return (
      <div>
        It is a host key of{" "}
        <Link to={`/instances/${encodeURIComponent(of.name)}`} onClick={close}>
          {of.name}
        </Link>
        {of.gone_at && `, which is gone since ${day(of.gone_at)}`} ({of.matched}).
      </div>
    );
  }
  if (of.kind === "former" && of.former) {
    return (
      <div>
        It was in {of.former.path} of{" "}
        <Link to={`/logins/${encodeURIComponent(of.name)}`} onClick={close}>
          {of.name}
        </Link>
        {of.gone_at && `, which is gone since ${day(of.gone_at)}`}, last seen there on {moment(of.former.seen_at)} and
        gone by {moment(of.former.gone_by)} ({of.matched}).
      </div>
    );
  }
  if (of.kind === "stranger" || of.kind === "authority" || of.kind === "named key" || of.kind === "group key") {
    return (
      <div>
        {
          {
            stranger: "It is a key in no record, a stranger in ",
            authority: "It is a certificate authority for ",
            "group key": "It is a key that a cloud hands to a group of machines, and opens ",
            "named key": "It is a key that a program of the SSH server names at a login to ",
          }[of.kind]
        }
        <Link to={`/logins/${encodeURIComponent(of.name)}`} onClick={close}>
          {of.name}
        </Link>
        {of.stranger && ` since ${day(of.stranger.first_seen_at)}, last seen on ${day(of.stranger.seen_at)}`}
        {of.read_to && `, ${of.over ? "until it changed, last read on" : "as last read on"} ${moment(of.read_to)}`} (
        {of.matched}).
      </div>
    );
  }
  const logins = of.logins ?? [];
  return (
    <div>
      <div>
        It is the key <KeyName name={of.name} sha256={of.key?.fingerprints.sha256 ?? ""} onClick={close} /> of{" "}
        {of.key?.holder?.name ?? "nobody"} ({of.matched}).
      </div>
      <div className="before-s">
        {logins.length === 0 ? (
          "As far as is known it opens nothing."
        ) : (
          <>
            It opens{" "}
            {logins.slice(0, 12).map((o, i) => (
              <span key={o.login}>
                {i > 0 && ", "}
                <Link to={`/logins/${encodeURIComponent(o.login)}`} onClick={close}>
                  {o.login}
                </Link>
              </span>
            ))}
            {logins.length > 12 && ` and ${(of.key?.opens ?? logins.length) - 12} more`}.
          </>
        )}
      </div>
    </div>
  );
}
