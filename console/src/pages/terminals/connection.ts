import type { VisitEnd, VisitMessage } from "../../api/client";
import type { OwnKey } from "../../privatekey/key";
import { algorithmOf } from "../../privatekey/userauth";
import { fromBase64, toBase64 } from "../../privatekey/wire";

/** How far a terminal is, in words for the person. */
export type TerminalState =
  | { at: "opening"; text: string }
  | { at: "open"; recorded: boolean }
  | { at: "cut"; text: string }
  | { at: "over"; how?: VisitEnd; why?: string };

interface Hooks {
  show: (bytes: Uint8Array, shown: () => void) => void;
  changed: (s: TerminalState) => void;
  /** Output from before was lost. */
  lost: () => void;
}

/** For how long the service keeps a visit whose page is away, in milliseconds. */
const away = 2 * 60_000;
/** After how many bytes the service is told that they are shown. */
const tellEvery = 32 << 10;

/** The page's end of a visit. It continues where it was after a cut, and signs one login, if it is asked to. */
export class Connection {
  private socket?: WebSocket;
  private received = 0;
  private shown = 0;
  private told = 0;
  private signed = false;
  private over = false;
  private open = false;
  private cutAt = 0;
  private size?: { cols: number; rows: number };
  private retry?: ReturnType<typeof setTimeout>;

  constructor(
    private readonly id: string,
    private readonly user: string,
    private readonly key: OwnKey | undefined,
    private readonly hooks: Hooks,
  ) {
    this.connect();
  }

  private connect() {
    const at = location.origin.replace(/^http/, "ws");
    const socket = new WebSocket(`${at}/api/v1/visits/${this.id}/stream?from=${this.received}`);
    socket.binaryType = "arraybuffer";
    this.socket = socket;
    socket.onopen = () => this.size && this.send({ kind: "size", ...this.size });
    socket.onmessage = (e: MessageEvent<string | ArrayBuffer>) => {
      if (typeof e.data === "string") void this.hear(JSON.parse(e.data) as VisitMessage);
      else this.take(new Uint8Array(e.data));
    };
    socket.onclose = () => socket === this.socket && this.closed();
  }

  private closed() {
    if (this.over) return;
    this.cutAt ||= Date.now();
    if (Date.now() - this.cutAt > away) {
      this.end({ at: "over", how: "away", why: "the service did not answer for two minutes" });
      return;
    }
    if (this.open)
      this.hooks.changed({
        at: "cut",
        text: "The connection broke. The terminal continues as soon as the service answers.",
      });
    this.retry = setTimeout(() => this.connect(), 1000);
  }

  private end(s: TerminalState) {
    this.over = true;
    this.hooks.changed(s);
    this.socket?.close();
  }

  private async hear(m: VisitMessage) {
    switch (m.kind) {
      case "waits":
        this.hooks.changed({ at: "opening", text: `Waiting for ${m.why ?? "the service"}` });
        return;
      case "open":
        if ((m.at ?? 0) !== this.received) this.hooks.lost();
        this.received = this.shown = this.told = m.at ?? 0;
        this.open = true;
        this.cutAt = 0;
        this.hooks.changed({ at: "open", recorded: Boolean(m.recorded) });
        return;
      case "sign":
        this.send(await this.sign(fromBase64(m.data ?? "")));
        return;
      case "end":
        this.end({ at: "over", how: m.how, why: m.why });
    }
  }

  /** Signs a login with the key of this visit, once; anything else it refuses, with the reason. */
  private async sign(data: Uint8Array<ArrayBuffer>): Promise<VisitMessage> {
    try {
      if (!this.key) throw new Error("There is no private key in this page for it");
      if (this.signed) throw new Error("One login was signed already; nothing more was signed");
      const algorithm = algorithmOf(data, { user: this.user, blob: this.key.blob, type: this.key.type });
      this.signed = true;
      return { kind: "signature", data: toBase64(await this.key.sign(data, algorithm)) };
    } catch (e) {
      return { kind: "refusal", why: e instanceof Error ? e.message : String(e) };
    }
  }

  private take(bytes: Uint8Array) {
    this.received += bytes.length;
    this.hooks.show(bytes, () => {
      this.shown += bytes.length;
      if (this.shown - this.told < tellEvery) return;
      this.told = this.shown;
      this.send({ kind: "seen", seen: this.shown });
    });
  }

  private send(m: VisitMessage) {
    if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify(m));
  }

  type(text: string) {
    if (this.socket?.readyState === WebSocket.OPEN && this.open) this.socket.send(new TextEncoder().encode(text));
  }

  resize(cols: number, rows: number) {
    this.size = { cols, rows };
    this.send({ kind: "size", cols, rows });
  }

  leave() {
    this.send({ kind: "leave" });
  }

  /** Lets go of the visit, which the service keeps for a page that comes back. */
  drop() {
    this.over = true;
    clearTimeout(this.retry);
    this.socket?.close();
  }
}
