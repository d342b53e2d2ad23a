import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App, Button } from "antd";
import { useCallback, useEffect } from "react";
import { api, requestKey, take, type Opening } from "../../api/client";
import { useRun } from "../../api/queries";

/** Accepts what is in place there as granted, or places what is missing: both are a grant. */
export function Settle({ of }: { of: Opening }) {
  const { message } = App.useApp();
  const queries = useQueryClient();
  const settle = useMutation({
    mutationFn: (once: string) =>
      take(
        api.POST("/grants", {
          params: { header: { "Idempotency-Key": once } },
          body: {
            key: of.key.name,
            login: of.login,
            reason: of.status === "missing" ? "placed again" : "accepted",
            until: of.until,
            from_here: of.status === "ungranted",
          },
        }),
      ),
    onSuccess: (g) => {
      if (!g.run) void queries.invalidateQueries({ queryKey: ["reach"] });
    },
    onError: (e) => void message.error(e.message),
  });
  const { reset, data } = settle;
  const run = data?.run?.id;
  const ended = useCallback(() => {
    reset();
    void queries.invalidateQueries({ queryKey: ["reach"] });
  }, [reset, queries]);
  const text = { ungranted: "Accept it", missing: "Place it" }[of.status as string];
  if (!text || of.steward) return null;
  return (
    <>
      <Button size="small" loading={settle.isPending || !!run} onClick={() => settle.mutate(requestKey())}>
        {text}
      </Button>
      {run && <WhenEnded run={run} ended={ended} />}
    </>
  );
}

/** Follows a run, and tells once it has ended. */
function WhenEnded({ run: id, ended }: { run: string; ended: () => void }) {
  const { run } = useRun(id);
  const over = !!run?.ended_at;
  useEffect(() => {
    if (over) ended();
  }, [over, ended]);
  return null;
}
