import { Button } from "antd";
import { useState, type ReactNode } from "react";

/** Fields that have a sensible default, out of sight until somebody asks for them. */
export function MoreChoices({ children, open: begins }: { children: ReactNode; open?: boolean }) {
  const [open, setOpen] = useState(begins ?? false);
  return (
    <div>
      <Button type="text" size="small" aria-expanded={open} onClick={() => setOpen(!open)} className="after-s">
        <span aria-hidden>{open ? "▾" : "▸"}</span> {open ? "Fewer choices" : "More choices"}
      </Button>
      <div hidden={!open}>{children}</div>
    </div>
  );
}
