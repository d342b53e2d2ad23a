import type { Problem } from "../../api/client";

/** A file on its way into a login. */
export interface Upload {
  to: string;
  size: number;
  sent: number;
  done?: boolean;
  problem?: Problem;
}

/**
 * Sends a file, and tells how far it is; it ends with what was wrong, if something was. fetch tells of no progress, so
 * it goes by XMLHttpRequest.
 */
export function putFile(
  visit: string,
  to: string,
  file: File,
  replace: boolean,
  tell: (u: Upload) => void,
): Promise<Problem | undefined> {
  const now: Upload = { to, size: file.size, sent: 0 };
  const query = new URLSearchParams({ path: to, ...(replace && { replace: "true" }) });
  return new Promise((over) => {
    const request = new XMLHttpRequest();
    request.open("PUT", `/api/v1/visits/${visit}/files/content?${query.toString()}`);
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.upload.onprogress = (e) => tell({ ...now, sent: e.loaded });
    const failed = (problem: Problem) => {
      tell({ ...now, problem });
      over(problem);
    };
    request.onload = () => {
      if (request.status === 200) {
        tell({ ...now, sent: file.size, done: true });
        over(undefined);
        return;
      }
      try {
        failed(JSON.parse(request.responseText) as Problem);
      } catch {
        request.onerror?.(new ProgressEvent("error"));
      }
    };
    request.onerror = () =>
      failed({ type: "about:blank", title: "No answer", status: 0, code: "unreachable", detail: "the transfer broke" });
    tell(now);
    request.send(file);
  });
}
