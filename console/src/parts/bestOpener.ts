import type { Opening } from "../api/client";

/**
 * The opener to show in an ssh command: the person's own before others', one that was seen in place before one that
 * was not.
 */
export function bestOpener(openers: Opening[], me: string | undefined): Opening | undefined {
  const worth = (o: Opening) => (o.status === "in place" ? 2 : 0) + (o.key.holder === me ? 1 : 0);
  return openers.filter((o) => o.granted_at).sort((a, b) => worth(b) - worth(a))[0];
}
