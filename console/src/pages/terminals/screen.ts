import { FitAddon } from "@xterm/addon-fit";
import { Terminal } from "@xterm/xterm";
import "@xterm/xterm/css/xterm.css";

/**
 * Makes a terminal in an element. What a machine writes into it moves nothing outside: titles and links are left alone,
 * and there is no way from it to the clipboard.
 */
export function newScreen(at: HTMLElement, dark: boolean): { term: Terminal; fit: () => void } {
  const style = getComputedStyle(document.documentElement);
  const colour = (name: string) => style.getPropertyValue(name).trim();
  const term = new Terminal({
    cursorBlink: false,
    fontFamily: colour("--code") || "monospace",
    fontSize: 14,
    lineHeight: 1.2, // lower ones cut underscores off
    scrollback: 5000,
    screenReaderMode: true,
    linkHandler: { activate: () => {} },
    theme: dark
      ? { background: "#17121a", foreground: "#e8e2ea", cursor: "#d48fc0", selectionBackground: "#5b3a58" }
      : {
          background: "#fffdff",
          foreground: "#221b24",
          cursor: "#7b2d64",
          selectionBackground: "#e7cfe0",
          yellow: "#7a5d00",
          green: "#22701f",
          brightBlack: "#6a626c",
          white: "#5d5560",
          brightWhite: "#3a343c",
        },
  });
  const fitting = new FitAddon();
  term.loadAddon(fitting);
  term.open(at);
  fitting.fit();
  return { term, fit: () => fitting.fit() };
}
