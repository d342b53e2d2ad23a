import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App } from "antd";
import { problemOf } from "../api/client";
import type { Subject } from "../api/queries";

/** Does something with one click: what has changed is read again, and a problem is told. */
export function useAct<V, R>(act: (v: V) => Promise<R>, stale: Subject, done?: (r: R) => void) {
  const queries = useQueryClient();
  const { message } = App.useApp();
  return useMutation({
    mutationFn: act,
    onSuccess: (r: R) => {
      void queries.invalidateQueries({ queryKey: [stale] });
      done?.(r);
    },
    onError: (e: Error) => {
      const p = problemOf(e);
      void message.error(`${p.detail}${p.remedy ? `. ${p.remedy}` : ""}`, 8);
    },
  });
}
