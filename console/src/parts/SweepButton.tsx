import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App, Button } from "antd";
import { api, take } from "../api/client";
import { useSweep } from "../api/queries";

/** Reads the logins of instances, and says what came of it where it is. */
export function SweepButton({ instances, text, small }: { instances: string[]; text?: string; small?: boolean }) {
  const queries = useQueryClient();
  const { message } = App.useApp();
  const begin = useMutation({
    mutationFn: () => take(api.POST("/sweeps", { body: { instances } })),
    onError: (e) => void message.error(e.message),
  });
  const sweep = useSweep(begin.data?.id, () => void queries.invalidateQueries({ queryKey: ["reach"] }));
  const said =
    sweep?.ended_at &&
    (instances.length > 1
      ? `read: ${sweep.as_before} as before, ${sweep.changed} changed, ${sweep.failed} could not be read`
      : sweep.failed > 0
        ? "it could not be read"
        : sweep.changed > 0
          ? "read: it changed"
          : "read: as before");
  return (
    <span className="inline middle">
      <Button
        size={small ? "small" : undefined}
        loading={begin.isPending || Boolean(sweep && !sweep.ended_at)}
        onClick={() => begin.mutate()}
      >
        {text ?? "Sweep it"}
      </Button>
      {said && <span role="status">{said}</span>}
    </span>
  );
}
