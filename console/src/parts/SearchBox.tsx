import { Input, type InputRef } from "antd";
import { useEffect, useRef, useState } from "react";

/** A search field that keeps to the URL's value and that "/" jumps to. */
export function SearchBox({ value, change, hint }: { value: string; change: (v: string) => void; hint: string }) {
  const [text, setText] = useState(value);
  const [seen, setSeen] = useState(value);
  const box = useRef<InputRef>(null);
  if (value !== seen) {
    // the address changed, by the back button for one
    setSeen(value);
    setText(value);
  }
  useEffect(() => {
    if (text === value) return;
    const wait = setTimeout(() => change(text), 250);
    return () => clearTimeout(wait);
  }, [text, value, change]);
  useEffect(() => {
    const jump = (e: KeyboardEvent) => {
      const on = e.target as HTMLElement;
      if (e.key === "/" && !["INPUT", "TEXTAREA"].includes(on.tagName)) {
        e.preventDefault();
        box.current?.focus();
      }
    };
    document.addEventListener("keydown", jump);
    return () => document.removeEventListener("keydown", jump);
  }, []);
  return (
    <Input
      ref={box}
      data-search
      allowClear={{ clearIcon: <span aria-label="Clear">✕</span> }}
      value={text}
      onChange={(e) => setText(e.target.value)}
      placeholder={`${hint}  ( / )`}
      aria-label={hint}
      aria-keyshortcuts="/"
      className="field-l"
    />
  );
}
