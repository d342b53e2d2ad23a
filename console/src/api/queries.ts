import {
  queryOptions,
  useInfiniteQuery,
  useQueries,
  useQuery,
  useQueryClient,
  type QueryKey,
} from "@tanstack/react-query";
import { useEffect, useState } from "react";
import {
  api,
  take,
  type CharterSettlementChange,
  type CloudInstance,
  type Difference,
  type GrantRecord,
  type LoginReach,
  type ProofDue,
  type ReachState,
  type Restore,
  type Rotation,
  type RotationItem,
  type RotationWanted,
  type Run,
  type Visit,
} from "./client";
import type { components } from "./contract.gen";

type ReachPage = components["schemas"]["ReachPage"];

/** What is known is kept under its subject, and read again by it. */
export type Subject =
  | "asked"
  | "catalogue"
  | "closings"
  | "charters"
  | "clouds"
  | "consent-labels"
  | "consents"
  | "daybook"
  | "instances"
  | "holders"
  | "host-authorities"
  | "jumps"
  | "keys"
  | "leaving"
  | "me"
  | "names"
  | "operators"
  | "passkeys"
  | "reach"
  | "reading"
  | "subscribers"
  | "restores"
  | "rotations"
  | "routes"
  | "rules"
  | "run"
  | "runs"
  | "safe"
  | "mail"
  | "sessions"
  | "set-up"
  | "sweep"
  | "tokens"
  | "trace"
  | "visits";

declare module "@tanstack/react-query" {
  interface Register {
    queryKey: readonly [Subject, ...unknown[]];
  }
}

export const pageSize = 50;

export function useMe() {
  return useQuery({ queryKey: ["me"], queryFn: () => take(api.GET("/session")), retry: false, staleTime: 60_000 });
}

/** What a cloud offers for a launch; the first one unless given. */
export const catalogueOf = (cloud?: string) =>
  queryOptions({
    queryKey: ["catalogue", cloud],
    queryFn: () => take(api.GET("/catalogue", { params: { query: { cloud } } })),
    staleTime: 60_000,
  });

export function useCatalogue(cloud?: string) {
  return useQuery(catalogueOf(cloud));
}

export function useClouds() {
  return useQuery({ queryKey: ["clouds"], queryFn: () => take(api.GET("/clouds")), refetchInterval: 5_000 });
}

/** A cloud's own catalogue of named keys. */
export function useCloudKeys(cloud: string) {
  return useQuery({
    queryKey: ["clouds", "keys", cloud],
    queryFn: () => take(api.GET("/clouds/{cloud}/keys", { params: { path: { cloud } } })),
  });
}

/** The keys that a cloud hands to groups of instances. */
export function useKeyGroups(cloud: string) {
  return useQuery({
    queryKey: ["clouds", "groups", cloud],
    queryFn: () => take(api.GET("/clouds/{cloud}/key-groups", { params: { path: { cloud } } })),
  });
}

export function useRecordRules() {
  return useQuery({ queryKey: ["clouds", "rules"], queryFn: () => take(api.GET("/record-rules")) });
}

export function useJumps() {
  return useQuery({ queryKey: ["jumps"], queryFn: () => take(api.GET("/jumps")) });
}

export function useCharters() {
  return useQuery({
    queryKey: ["charters"],
    queryFn: () => take(api.GET("/charters")),
    refetchInterval: 15_000,
  });
}

export function useCharter(name: string) {
  return useQuery({
    queryKey: ["charters", name],
    queryFn: () => take(api.GET("/charters/{charter}", { params: { path: { charter: name } } })),
    refetchInterval: 5_000,
  });
}

/** What differs now from the version of a charter that counts. */
export function useCharterComparison(name: string, enabled: boolean) {
  return useQuery({
    queryKey: ["charters", name, "comparison"],
    enabled,
    queryFn: () => take(api.GET("/charters/{charter}/comparison", { params: { path: { charter: name } } })),
    refetchInterval: 15_000,
  });
}

export function useCharterVersion(name: string, version: number | undefined) {
  return useQuery({
    queryKey: ["charters", name, "version", version],
    enabled: version !== undefined,
    queryFn: () =>
      take(
        api.GET("/charters/{charter}/versions/{version}", {
          params: { path: { charter: name, version: version ?? 0 } },
        }),
      ),
  });
}

/** The settlements of a charter, the last first. */
export function useSettlements(name: string) {
  return useQuery({
    queryKey: ["charters", name, "settlements"],
    queryFn: () => take(api.GET("/charter-settlements", { params: { query: { charter: name, limit: 1 } } })),
    refetchInterval: (q) => (q.state.data?.items[0]?.ended_at ? 5_000 : 500),
  });
}

export function useSettlementChanges(id: string, state: CharterSettlementChange["state"] | undefined, live: boolean) {
  return usePages<CharterSettlementChange>(
    ["charters", "changes", { id, state, live }],
    (after) =>
      take(
        api.GET("/charter-settlements/{settlement}/changes", {
          params: { path: { settlement: id }, query: { state, ...part(after) } },
        }),
      ),
    live ? 1_000 : undefined,
  );
}

export function useHostAuthorities() {
  return useQuery({ queryKey: ["host-authorities"], queryFn: () => take(api.GET("/host-authorities")) });
}

export function useHostKeys(instance: string) {
  return useQuery({
    queryKey: ["instances", instance, "host-keys"],
    queryFn: () => take(api.GET("/instances/{instance}/host-keys", { params: { path: { instance } } })),
  });
}

/** What runs in a cloud and is not recorded. */
export function useCloudInstances(cloud: string | undefined, q: string | undefined) {
  return usePages<CloudInstance>(["clouds", "instances", { cloud, q }], (after) =>
    cloud
      ? take(api.GET("/cloud-instances", { params: { query: { cloud, q, recorded: false, ...paging(after) } } }))
      : Promise.resolve({ items: [] }),
  );
}

/** Visits to logins through the console. */
export function useVisits(filter: { login?: string; live?: boolean }) {
  return usePages<Visit>(
    ["visits", "list", filter],
    (after) => take(api.GET("/visits", { params: { query: { ...filter, ...part(after) } } })),
    5_000,
  );
}

/** What is in a folder of the login of an open visit; "" for where the login begins. */
export function useVisitFiles(visit: string, path: string) {
  const key = ["visits", "files", visit, { path }] as const;
  return useQuery({
    queryKey: key,
    placeholderData: sameList(key),
    queryFn: () =>
      take(api.GET("/visits/{visit}/files", { params: { path: { visit }, query: { path: path || undefined } } })),
    retry: false,
  });
}

export function usePasskeys() {
  return useQuery({ queryKey: ["passkeys"], queryFn: () => take(api.GET("/passkeys")) });
}

export function useRecordedLabels() {
  return useQuery({ queryKey: ["visits", "labels"], queryFn: () => take(api.GET("/recorded-labels")) });
}

/** The keys of the names, as far as they are read. */
export function useKeysNamed(names: string[]) {
  return useQueries({
    queries: names.map((name) => ({
      queryKey: ["keys", name] as const,
      queryFn: () => take(api.GET("/keys/{key}", { params: { path: { key: name } } })),
    })),
    combine: (all) => all.flatMap((q) => (q.data ? [q.data] : [])),
  });
}

export function useHolders() {
  return useQuery({ queryKey: ["holders"], queryFn: () => take(api.GET("/holders")), staleTime: 60_000 });
}

export function useKey(name: string) {
  return useQuery({
    queryKey: ["keys", name],
    queryFn: () => take(api.GET("/keys/{key}", { params: { path: { key: name } } })),
  });
}

export function useInstance(name: string) {
  return useQuery({
    queryKey: ["instances", name],
    queryFn: () => take(api.GET("/instances/{instance}", { params: { path: { instance: name } } })),
    refetchInterval: 10_000,
  });
}

export interface ListFilter {
  q?: string;
  sort?: string;
  [field: string]: string | undefined;
}

interface Page<T> {
  items: T[];
  next?: string;
  total?: number;
}

/** Keeps what is shown while another filter of the same list is read; of another thing nothing is kept. */
function sameList(key: QueryKey) {
  return <T>(previous: T | undefined, before?: { queryKey: readonly unknown[] }) =>
    before &&
    before.queryKey.length === key.length &&
    key.every((part, n) => (typeof part === "object" && part !== null) || part === before.queryKey[n])
      ? previous
      : undefined;
}

/** A list that is read page by page with the cursor that each page gives. */
function usePages<T>(
  key: QueryKey,
  get: (after: string | undefined) => Promise<Page<T>>,
  interval: number | false = 15_000,
) {
  const query = useInfiniteQuery({
    queryKey: key,
    placeholderData: sameList(key),
    queryFn: ({ pageParam }) => get(pageParam),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (last) => last.next,
    // All pages are read again each time.
    refetchInterval: (q) => interval && interval * (q.state.data?.pages.length ?? 1),
  });
  const rows = query.data?.pages.flatMap((p) => p.items) ?? [];
  return { ...query, rows, first: query.data?.pages[0], total: query.data?.pages[0]?.total ?? rows.length };
}

export type Pages<T> = ReturnType<typeof usePages<T>>;

/** A first page is soon there; who reads on reads more at a time. */
const part = (after: string | undefined) => ({ after, limit: after === undefined ? pageSize : 4 * pageSize });

const paging = (after: string | undefined) => ({ ...part(after), total: after === undefined });

export function useKeys(filter: ListFilter) {
  return usePages(["keys", "list", filter], (after) =>
    take(api.GET("/keys", { params: { query: { ...filter, ...paging(after) } } })),
  );
}

export function useInstances(filter: ListFilter) {
  return usePages(
    ["instances", "list", filter],
    (after) => take(api.GET("/instances", { params: { query: { ...filter, ...paging(after) } } })),
    5_000,
  );
}

export function useOpens(key: string) {
  return usePages(["keys", key, "opens"], (after) =>
    take(api.GET("/keys/{key}/opens", { params: { path: { key }, query: paging(after) } })),
  );
}

export function useOpeners(instance: string) {
  return usePages(["instances", instance, "openers"], (after) =>
    take(api.GET("/instances/{instance}/openers", { params: { path: { instance }, query: paging(after) } })),
  );
}

interface ReachFilter {
  q?: string;
  state?: string;
  drift?: string;
  worry?: string;
  region?: string;
  label?: string;
  holder?: string;
  key?: string;
}

export function useReach(f: ReachFilter) {
  const query = {
    ...f,
    state: f.state as ReachState | undefined,
    drift: f.drift === "true" || undefined,
    worry: f.worry === "true" || undefined,
  };
  const pages = usePages<LoginReach>(["reach", f], (after) =>
    take(api.GET("/reach", { params: { query: { ...query, ...part(after) } } })),
  );
  return { pages, first: pages.first as ReachPage | undefined };
}

/** What waits for the person, what changed since they last looked, and how reach developed. */
export function useGlance() {
  return useQuery({
    queryKey: ["reach", "glance"],
    queryFn: () => take(api.GET("/glance")),
    refetchInterval: 30_000,
  });
}

/** At most so many logins are drawn on a map. */
const mapped = 1000;

const mapQuery = (f: ReachFilter) => ({
  ...f,
  state: f.state as ReachState | undefined,
  drift: f.drift === "true" || undefined,
  worry: undefined,
  limit: mapped,
});

export function useReachMap(f: ReachFilter, enabled: boolean) {
  const query = mapQuery(f);
  return useQuery({
    queryKey: ["reach", "map", f],
    enabled,
    placeholderData: sameList(["reach", "map", f]),
    queryFn: () => take(api.GET("/reach/map", { params: { query } })),
    refetchInterval: 30_000,
  });
}

/** What is alike together: logins with the same keys, and keys with the same logins. */
export function useReachGroups(f: ReachFilter, enabled: boolean) {
  const query = mapQuery(f);
  return useQuery({
    queryKey: ["reach", "groups", f],
    enabled,
    placeholderData: sameList(["reach", "groups", f]),
    queryFn: () => take(api.GET("/reach/groups", { params: { query } })),
    refetchInterval: 30_000,
  });
}

/** The logins of one row of what is alike. */
export function useReachRow(row: string) {
  return useQuery({
    queryKey: ["reach", "row", row],
    queryFn: () => take(api.GET("/reach/groups", { params: { query: { row } } })),
  });
}

export function useDrift(f: { login?: string; status?: string; label?: string }) {
  const query = { ...f, status: f.status as Difference["status"] | undefined };
  return usePages<Difference>(["reach", "drift", f], (after) =>
    take(api.GET("/drift", { params: { query: { ...query, ...part(after) } } })),
  );
}

export function useGrants(f: {
  login?: string;
  holder?: string;
  key?: string;
  label?: string;
  ended?: string;
  until?: string;
  overdue?: string;
  own?: string;
}) {
  const query = {
    ...f,
    ended: f.ended === "true" || undefined,
    until: f.until === "true" || undefined,
    overdue: f.overdue === "true" || undefined,
    own: f.own === "true" ? undefined : false,
  };
  return usePages<GrantRecord>(["reach", "grants", f], (after) =>
    take(api.GET("/grants", { params: { query: { ...query, ...paging(after) } } })),
  );
}

export function useProofsDue(holder: string | undefined) {
  return usePages<ProofDue>(
    ["reach", "due", holder],
    (after) => take(api.GET("/proofs/due", { params: { query: { holder, ...part(after) } } })),
    60_000,
  );
}

/** Who could get in to an instance at a time that is over. */
export function usePast(instance: string, at: string | undefined) {
  return useQuery({
    queryKey: ["reach", "past", instance, at],
    enabled: at !== undefined,
    queryFn: () => take(api.GET("/past", { params: { query: { at, login: instance } } })),
  });
}

export function useInstanceAccess(name: string) {
  return useQuery({
    queryKey: ["reach", "access", name],
    queryFn: () => take(api.GET("/instances/{instance}/access", { params: { path: { instance: name } } })),
  });
}

export function useLogin(name: string) {
  return useQuery({
    queryKey: ["reach", "login", name],
    queryFn: () => take(api.GET("/logins/{login}", { params: { path: { login: name } } })),
    refetchInterval: 15_000,
  });
}

export function useVersions(login: string) {
  return useQuery({
    queryKey: ["reach", "versions", login],
    queryFn: () => take(api.GET("/logins/{login}/versions", { params: { path: { login } } })),
  });
}

/** What the loss of keys would do: of one, or of all that a holder has. */
export function useLoss(of: { key?: string; keys?: string[]; holder?: string }) {
  const key = of.key ? [of.key] : of.keys;
  return useQuery({
    queryKey: ["reach", "loss", of],
    enabled: of.keys?.length !== 0,
    queryFn: () => take(api.GET("/loss", { params: { query: { key, holder: of.holder } } })),
  });
}

/** Follows a sweep until it has ended. */
export function useSweep(id: string | undefined, ended: () => void) {
  const query = useQuery({
    queryKey: ["sweep", id],
    enabled: id !== undefined,
    queryFn: () => take(api.GET("/sweeps/{sweep}", { params: { path: { sweep: id ?? "" } } })),
    refetchInterval: (q) => (q.state.data?.ended_at ? false : 300),
  });
  const over = Boolean(query.data?.ended_at);
  useEffect(() => {
    if (over) ended();
    // eslint-disable-next-line react-hooks/exhaustive-deps -- told once, when it is over
  }, [over, id]);
  return query.data;
}

export function useRotations() {
  return usePages<Rotation>(
    ["rotations", "list"],
    (after) => take(api.GET("/rotations", { params: { query: paging(after) } })),
    3_000,
  );
}

/** How much there is to do for each of the usual reasons. */
export function useRotationGoals() {
  return useQuery({
    queryKey: ["rotations", "goals"],
    queryFn: () => take(api.GET("/rotations/goals")),
    refetchInterval: 15_000,
  });
}

/** What a rotation would do, as long as it is asked for. */
export function useRotationPlan(wanted: RotationWanted, make: "service" | "here" | "bring", enabled: boolean) {
  const key = ["rotations", "plan", { wanted, make }] as const;
  return useQuery({
    queryKey: key,
    enabled,
    placeholderData: sameList(key),
    queryFn: () => take(api.POST("/rotations/plans", { body: { wanted, make } })),
    retry: false,
  });
}

export function useRotation(id: string) {
  return useQuery({
    queryKey: ["rotations", id],
    queryFn: () => take(api.GET("/rotations/{rotation}", { params: { path: { rotation: id } } })),
    refetchInterval: (q) => (q.state.data?.ended_at ? false : 700),
  });
}

export function useRotationItems(id: string, state: string | undefined, live: boolean) {
  const query = { state: state as RotationItem["state"] | undefined };
  return usePages<RotationItem>(
    ["rotations", id, "items", state],
    (after) =>
      take(
        api.GET("/rotations/{rotation}/items", {
          params: { path: { rotation: id }, query: { ...query, ...part(after) } },
        }),
      ),
    live ? 1_500 : false,
  );
}

export function useDaybook(filter: ListFilter) {
  return usePages(["daybook", filter], (after) =>
    take(api.GET("/daybook", { params: { query: { ...filter, ...paging(after) } } })),
  );
}

export function useRuns(instance: string) {
  return useQuery({
    queryKey: ["runs", instance],
    queryFn: () => take(api.GET("/runs", { params: { query: { instance, limit: 10 } } })),
    refetchInterval: 5_000,
  });
}

/** Follows a run by its server-sent events until it has ended. */
export function useRun(id: string) {
  const first = useQuery({
    queryKey: ["run", id],
    queryFn: () => take(api.GET("/runs/{run}", { params: { path: { run: id } } })),
  });
  const [live, setLive] = useState<Run>();
  useEffect(() => {
    const events = new EventSource(`/api/v1/runs/${encodeURIComponent(id)}/events`);
    events.addEventListener("run", (e) => {
      const run = JSON.parse((e as MessageEvent<string>).data) as Run;
      setLive(run);
      if (run.ended_at) events.close();
    });
    return () => events.close();
  }, [id]);
  const run = live?.id === id ? live : first.data;
  return { run, error: first.error, isPending: !run && first.isPending };
}

export function useAskedKeys(holder?: string) {
  return useQuery({
    queryKey: ["asked", holder],
    queryFn: () => take(api.GET("/asked-keys", { params: { query: { holder } } })),
    refetchInterval: 15_000,
  });
}

export function useRotationRules() {
  return useQuery({ queryKey: ["rules"], queryFn: () => take(api.GET("/rotation-rules")), refetchInterval: 15_000 });
}

export function useDueRotations(days: number) {
  return useQuery({
    queryKey: ["rules", "due", days],
    queryFn: () => take(api.GET("/due-rotations", { params: { query: { days } } })),
    refetchInterval: 60_000,
  });
}

export function useRotationReport(id: string) {
  return useQuery({
    queryKey: ["rotations", id, "report"],
    queryFn: () => take(api.GET("/rotations/{rotation}/report", { params: { path: { rotation: id } } })),
  });
}

export function useRoutes(
  login: string,
  f: { max_downtime?: string; keep_address?: string; no_stop?: string; rehearse?: string },
) {
  const query = {
    max_downtime: f.max_downtime ? Number(f.max_downtime) : undefined,
    keep_address: f.keep_address === "true" || undefined,
    no_stop: f.no_stop === "true" || undefined,
    rehearse: f.rehearse === "true" || undefined,
  };
  return useQuery({
    queryKey: ["routes", login, f],
    placeholderData: sameList(["routes", login, f]),
    queryFn: () => take(api.GET("/logins/{login}/routes", { params: { path: { login }, query } })),
    staleTime: 5_000,
  });
}

export function useRestores() {
  return usePages<Restore>(
    ["restores", "list"],
    (after) => take(api.GET("/restores", { params: { query: paging(after) } })),
    3_000,
  );
}

/** Follows a restore until it has ended; its steps come as they are told. */
export function useRestore(id: string) {
  const { run } = useRun(id);
  const query = useQuery({
    queryKey: ["restores", id],
    queryFn: () => take(api.GET("/restores/{run}", { params: { path: { run: id } } })),
  });
  const { refetch } = query;
  const version = run?.version;
  useEffect(() => {
    if (version !== undefined) void refetch();
  }, [version, refetch]);
  const restore = query.data && run && run.version > query.data.run.version ? { ...query.data, run } : query.data;
  return { restore, error: query.error };
}

export function useRestoreReport(id: string) {
  return useQuery({
    queryKey: ["restores", id, "report"],
    queryFn: () => take(api.GET("/restores/{run}/report", { params: { path: { run: id } } })),
  });
}

/** What restores hold open right now. */
export function useClosings() {
  return useQuery({ queryKey: ["closings"], queryFn: () => take(api.GET("/closings")), refetchInterval: 5_000 });
}

export function useMail() {
  return useQuery({ queryKey: ["mail"], queryFn: () => take(api.GET("/mail")) });
}

export function useSessions(all: boolean) {
  return useQuery({
    queryKey: ["sessions", all],
    queryFn: () => take(api.GET("/sessions", { params: { query: { all: all || undefined } } })),
  });
}

export function useTokens(all: boolean) {
  return useQuery({
    queryKey: ["tokens", all],
    queryFn: () => take(api.GET("/tokens", { params: { query: { all: all || undefined } } })),
  });
}

export function useOperators() {
  return useQuery({ queryKey: ["operators"], queryFn: () => take(api.GET("/operators")), refetchInterval: 15_000 });
}

export function useLeaving(name: string) {
  return useQuery({
    queryKey: ["leaving", name],
    queryFn: () => take(api.GET("/operators/{operator}/leaving", { params: { path: { operator: name } } })),
    refetchInterval: 3_000,
  });
}

export function useConsents(enabled: boolean) {
  return useQuery({
    queryKey: ["consents"],
    enabled,
    queryFn: () => take(api.GET("/consents")),
    refetchInterval: 15_000,
  });
}

export function useConsentLabels() {
  return useQuery({ queryKey: ["consent-labels"], queryFn: () => take(api.GET("/consent-labels")) });
}

export function useHandOvers() {
  return useQuery({
    queryKey: ["keys", "hand-overs"],
    queryFn: () => take(api.GET("/hand-overs")),
    refetchInterval: 15_000,
  });
}

export function useSafe() {
  return useQuery({ queryKey: ["safe"], queryFn: () => take(api.GET("/safe")) });
}

export function useSubscribers() {
  return useQuery({ queryKey: ["subscribers"], queryFn: () => take(api.GET("/subscribers")), refetchInterval: 5_000 });
}

export function useDead(name: string) {
  return useQuery({
    queryKey: ["subscribers", name, "dead"],
    queryFn: () => take(api.GET("/subscribers/{subscriber}/dead", { params: { path: { subscriber: name } } })),
  });
}

/** Reads the daybook again whenever an entry that fits is added. */
export function useLiveDaybook(live: boolean, filter: ListFilter): "off" | "open" | "broken" {
  const queries = useQueryClient();
  const [state, setState] = useState<"off" | "open" | "broken">("off");
  const query = new URLSearchParams(
    Object.entries(filter).filter((e): e is [string, string] => Boolean(e[1])),
  ).toString();
  useEffect(() => {
    if (!live) return;
    const source = new EventSource(`/api/v1/daybook/events?${query}`);
    source.onopen = () => setState("open");
    source.onerror = () => setState("broken");
    source.addEventListener("entry", () => void queries.invalidateQueries({ queryKey: ["daybook"] }));
    return () => {
      source.close();
      setState("off");
    };
  }, [live, query, queries]);
  return state;
}
