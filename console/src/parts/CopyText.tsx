import { App } from "antd";
import { useState } from "react";

/** Text for a terminal or a comparison, with a button that copies it. */
export function CopyText({
  text,
  label,
  block,
  shown,
}: {
  text: string;
  label: string;
  block?: boolean;
  shown?: string;
}) {
  const { message } = App.useApp();
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(text);
      setCopied(true);
      setTimeout(() => setCopied(false), 1500);
    } catch {
      void message.warning("The browser did not allow copying: select the text and copy it");
    }
  };
  return (
    <span className={block ? "copied whole" : "copied"}>
      <code title={shown && text}>{shown ?? text}</code>
      <button type="button" className="copier" aria-label={`Copy ${label}`} onClick={() => void copy()}>
        {copied ? "✓" : "Copy"}
      </button>
    </span>
  );
}
