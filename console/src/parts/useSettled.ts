import { useEffect, useState } from "react";

/** A text as it was when nothing had been typed for a while, in milliseconds. */
export function useSettled(text: string, wait: number): string {
  const [settled, setSettled] = useState(text);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(text), wait);
    return () => clearTimeout(timer);
  }, [text, wait]);
  return settled;
}
