import { useQueries } from "@tanstack/react-query";
import { api, take } from "../api/client";
import type { OwnKey } from "../privatekey/key";

/** Which recorded keys the keys in this page are: undefined while that is asked, null for one that is not recorded. */
export function useRecords(held: readonly OwnKey[]) {
  return useQueries({
    queries: held.map((h) => ({
      queryKey: ["trace", "held", h.sha256] as const,
      queryFn: async () => {
        const t = await take(api.POST("/traces", { body: { text: h.sha256 } }));
        return t.matches.find((m) => m.kind === "key" && m.key)?.key ?? null;
      },
    })),
    combine: (all) => all.map((q) => q.data),
  });
}
