// What the pages read, and which live events make it stale.
import { useInfiniteQuery, useMutation, useQuery, useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { listen } from "../lib/events";
import { readAgain } from "../lib/read-again";
import { api, read, type DecisionRequest, type Device, type LiveEvent, type Position, type Problem } from "./client";

/** Topics of live events, with the paths whose answers they make stale. */
const TOPICS = {
  house: [
    "/api/v1/webhook",
    "/api/v1/exposure",
    "/api/v1/preflight",
    "/api/v1/handover",
    "/api/v1/status",
    "/api/v1/house",
    "/api/v1/console",
    "/api/v1/config",
    "/api/v1/records",
  ],
  folders: ["/api/v1/folders", "/api/v1/status"],
  places: ["/api/v1/places"],
  catalogue: ["/api/v1/catalogue", "/api/v1/status"],
  devices: ["/api/v1/presets", "/api/v1/devices", "/api/v1/network", "/api/v1/status", "/api/v1/exposure"],
  network: ["/api/v1/network"],
  state: ["/api/v1/network/found/{id}/services/{number}/state"],
  walkthroughs: ["/api/v1/handover", "/api/v1/walkthroughs", "/api/v1/devices/{id}/walkthrough"],
  streams: ["/api/v1/streams", "/api/v1/status"],
  accounts: ["/api/v1/accounts", "/api/v1/sessions"],
  positions: ["/api/v1/positions"],
  records: ["/api/v1/records"],
  preferences: ["/api/v1/preferences"],
} as const;

export type Topic = keyof typeof TOPICS;

const isTopic = (word: string): word is Topic => word in TOPICS;

/** Has what some topics concern read again. */
function invalidate(client: QueryClient, topics: Topic[]) {
  return readAgain(client, ({ queryKey }) =>
    topics.some((topic) => TOPICS[topic].some((path) => String(queryKey[1]).startsWith(path))),
  );
}

export const useStatus = () => read.useQuery("get", "/api/v1/status");
export const useFolders = () => read.useQuery("get", "/api/v1/folders");
export const useDevices = () => read.useQuery("get", "/api/v1/devices");
export const useNetwork = () => read.useQuery("get", "/api/v1/network");
export const useStreams = () =>
  useQuery({
    // As live events set it.
    ...read.queryOptions("get", "/api/v1/streams"),
    // A player of the console that has gone without a word is noticed by asking.
    refetchInterval: (query) => (query.state.data?.console?.length ? 5_000 : false),
  });
export const useAccounts = () => read.useQuery("get", "/api/v1/accounts");
export const useSessions = () => read.useQuery("get", "/api/v1/sessions");
export const useAccess = () => read.useQuery("get", "/api/v1/console");
export const useRecords = () => read.useQuery("get", "/api/v1/records");
export const useConfig = () => read.useQuery("get", "/api/v1/config");
export const useContinued = () => read.useQuery("get", "/api/v1/positions");
export const usePreferences = () => read.useQuery("get", "/api/v1/preferences");
export const useSetup = () => read.useQuery("get", "/api/v1/setup");

export const useLeftOut = (id: number) =>
  read.useQuery("get", "/api/v1/folders/{id}/left-out", { params: { path: { id } } });

export const useScans = (id: number) =>
  read.useQuery("get", "/api/v1/folders/{id}/scans", { params: { path: { id } } });

export const useSightings = (id: number) =>
  read.useQuery("get", "/api/v1/devices/{id}/sightings", { params: { path: { id } } });

/** What devices did in the last seconds: asked for as long as it is shown. */
export const useActiveDevices = () =>
  useQuery({ ...read.queryOptions("get", "/api/v1/active-devices"), refetchInterval: 1_000 });

export const useRecordings = (id: number) =>
  read.useQuery("get", "/api/v1/devices/{id}/recordings", { params: { path: { id } } });

export const useConversation = (id: number, name: string) =>
  useInfiniteQuery({
    queryKey: ["get", "/api/v1/devices/{id}/recordings/{name}", id, name],
    initialPageParam: 0,
    queryFn: async ({ pageParam }) => {
      const params = { path: { id, name }, query: { skip: pageParam } };
      const { data, error } = await api.GET("/api/v1/devices/{id}/recordings/{name}", { params });
      if (!data) throw error;
      return data;
    },
    getNextPageParam: (last) => {
      const end = last.entries.at(-1);
      return last.more && end ? end.number + 1 : undefined;
    },
  });

export const useHandover = () => read.useQuery("get", "/api/v1/handover");
export const useWalkthroughs = () => read.useQuery("get", "/api/v1/walkthroughs");

/** The walkthrough of a device; while it runs, what is taken changes all the time. */
export const useWalkthrough = (id: number) =>
  useQuery({
    ...read.queryOptions("get", "/api/v1/devices/{id}/walkthrough", { params: { path: { id } } }),
    retry: (times, error) => error.status !== 404 && times < 3,
    refetchInterval: (query) => (query.state.data && query.state.data.summary.finished_ms == null ? 1_000 : false),
  });

export const usePreflight = () => read.useQuery("get", "/api/v1/preflight");

export const useExposure = () => read.useQuery("get", "/api/v1/exposure");

export const usePresets = () => read.useQuery("get", "/api/v1/presets");

export const useActions = (id: number, number: number) =>
  read.useQuery("get", "/api/v1/network/found/{id}/services/{number}", { params: { path: { id, number } } });

/** The state of a service, as its events tell it: read now and then, so that the service goes on subscribing. */
export const useWatchedState = (id: number, number: number) =>
  useQuery({
    ...read.queryOptions("get", "/api/v1/network/found/{id}/services/{number}/state", {
      params: { path: { id, number } },
    }),
    refetchInterval: 10_000,
    gcTime: 0,
  });

export const useSeenBy = (id: number, object: string) =>
  read.useQuery("get", "/api/v1/devices/{id}/catalogue/{object}", { params: { path: { id, object } } });

export const useWebhook = () => read.useQuery("get", "/api/v1/webhook");

export const useTerms = () => read.useQuery("get", "/api/v1/glossary", undefined, { staleTime: Infinity });

export const useDecisions = (id: number) =>
  read.useQuery("get", "/api/v1/devices/{id}/decisions", { params: { path: { id } } });

export const useDirections = () => read.useQuery("get", "/api/v1/directions", undefined, { staleTime: Infinity });

export const usePlaces = (path: string) => read.useQuery("get", "/api/v1/places", { params: { query: { path } } });

export const PAGE = 100;

/** A list in the catalogue: a container in an order, or what was found below it by words. */
export type ListOf = { id: string; wanted: string; sort: string };

/** How a page of a container is read, and one of what is found below it. */
function pageOptions({ id, wanted, sort }: ListOf, start: number) {
  const page = { start, count: PAGE, ...(sort && { sort }) };
  return {
    listed: read.queryOptions("get", "/api/v1/catalogue/{id}/children", { params: { path: { id }, query: page } }),
    found: read.queryOptions("get", "/api/v1/catalogue/{id}/search", {
      params: { path: { id }, query: { ...page, q: wanted } },
    }),
  };
}

/** A page of a list. */
export function useList(list: ListOf, start: number) {
  const { listed, found } = pageOptions(list, start);
  const all = useQuery({ ...listed, enabled: list.wanted === "" });
  const some = useQuery({ ...found, enabled: list.wanted !== "" });
  return list.wanted === "" ? all : some;
}

/** Reads a page of a list when it is asked for. */
export function useReadPage(list: ListOf) {
  const client = useQueryClient();
  return (start: number) => {
    const { listed, found } = pageOptions(list, start);
    return list.wanted === "" ? client.fetchQuery(listed) : client.fetchQuery(found);
  };
}

/** All pictures of a list, page after page as they are asked for. */
export function useAllPictures(list: ListOf) {
  const readPage = useReadPage(list);
  const pages = useInfiniteQuery({
    queryKey: ["pictures", list.id, list.wanted, list.sort],
    queryFn: ({ pageParam }) => readPage(pageParam),
    initialPageParam: 0,
    getNextPageParam: (last) => {
      const next = last.start + last.objects.length;
      return last.objects.length > 0 && next < last.total ? next : undefined;
    },
    gcTime: 0,
  });
  const objects = pages.data?.pages.flatMap((page) => page.objects) ?? [];
  const pictures = objects.filter((object) => object.facts?.kind === "picture");
  const total = pages.data?.pages[0]?.total ?? 0;
  return {
    pictures,
    // What is not known yet counts as pictures.
    total: total - objects.length + pictures.length,
    complete: pages.data !== undefined && !pages.hasNextPage,
    more: pages.fetchNextPage,
    busy: pages.isFetching,
    problem: pages.error,
  };
}

/** Notes where the person stopped; nothing on the page waits for it. */
export const useNotePosition = (id: string) =>
  useChange<Position>(
    (body) => api.PUT("/api/v1/catalogue/{id}/position", { params: { path: { id } }, body }),
    ["positions"],
  );

export const useObject = (id: string) => read.useQuery("get", "/api/v1/catalogue/{id}", { params: { path: { id } } });

/** A change of the house; what it concerns is read again. */
export function useChange<Input, Answer = unknown>(
  run: (input: Input) => Promise<{ data?: Answer; error?: Problem }>,
  topics: Topic[],
) {
  const client = useQueryClient();
  return useMutation<Answer | null, Problem, Input>({
    mutationFn: async (input) => {
      const { data, error } = await run(input);
      if (error !== undefined) throw error;
      return data ?? null;
    },
    onSettled: () => invalidate(client, topics),
  });
}

export type Decision = { device: Device } & DecisionRequest;

export const useDecide = () =>
  useChange<Decision>(
    ({ device, ...body }) => api.PUT("/api/v1/devices/{id}/decision", { params: { path: { id: device.id } }, body }),
    ["devices", "house"],
  );

/** Listens to the house; false while the connection is lost. */
export function useLive(): boolean {
  const client = useQueryClient();
  const [connected, setConnected] = useState(true);
  useEffect(() => {
    const stop = new AbortController();
    void listen(stop.signal, {
      open: () => {
        setConnected(true);
        // Whatever changed while nobody listened.
        void readAgain(client, () => true);
      },
      lost: () => setConnected(false),
      event: (data) => {
        const { topic, streams }: LiveEvent = JSON.parse(data);
        // Numbers that move all the time come with the event: nothing is asked for them.
        if (streams) {
          client.setQueryData(read.queryOptions("get", "/api/v1/streams").queryKey, streams);
          return;
        }
        if (isTopic(topic)) void invalidate(client, [topic]);
      },
    });
    return () => stop.abort();
  }, [client]);
  return connected;
}
