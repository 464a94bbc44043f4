// What the pages read, keyed by the topic of the live events that make it stale.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import {
  call,
  get,
  type AccountSession,
  type AccountUse,
  type Catalogue,
  type CatalogueObject,
  type ConsoleAccess,
  type Continued,
  type Device,
  type Folder,
  type LeftOut,
  type LiveEvent,
  type Places,
  type Position,
  type Problem,
  type ScanReports,
  type Status,
  type Streams,
} from "./client";

export const useStatus = () => useQuery({ queryKey: ["house", "status"], queryFn: () => get<Status>("/status") });
export const useFolders = () => useQuery({ queryKey: ["folders"], queryFn: () => get<Folder[]>("/folders") });
export const useDevices = () => useQuery({ queryKey: ["devices"], queryFn: () => get<Device[]>("/devices") });
export const useStreams = () => useQuery({ queryKey: ["streams"], queryFn: () => get<Streams>("/streams") });
export const useAccounts = () => useQuery<AccountUse[], Problem>({ queryKey: ["accounts"], queryFn: () => get<AccountUse[]>("/accounts") });
export const useSessions = () => useQuery({ queryKey: ["accounts", "sessions"], queryFn: () => get<AccountSession[]>("/sessions") });
export const useAccess = () => useQuery({ queryKey: ["house", "access"], queryFn: () => get<ConsoleAccess>("/console") });

export const useLeftOut = (folder: number, wanted: boolean) =>
  useQuery({
    queryKey: ["folders", folder, "left-out"],
    queryFn: () => get<LeftOut>(`/folders/${folder}/left-out`),
    enabled: wanted,
  });

export const useScans = (folder: number) =>
  useQuery({ queryKey: ["folders", folder, "scans"], queryFn: () => get<ScanReports>(`/folders/${folder}/scans`) });

export const usePlaces = (path: string) =>
  useQuery({ queryKey: ["places", path], queryFn: () => get<Places>(`/places?path=${encodeURIComponent(path)}`) });

export const PAGE = 100;

/** A page of a container, or of what is found below it. */
export const useContainer = (id: string, start: number, wanted: string, sort: string) =>
  useQuery({
    queryKey: ["catalogue", id, wanted, sort, start],
    queryFn: () => {
      const query = new URLSearchParams({ start: String(start), count: String(PAGE), ...(wanted && { q: wanted }), ...(sort && { sort }) });
      return get<Catalogue>(`/catalogue/${id}/${wanted ? "search" : "children"}?${query}`);
    },
    placeholderData: (before, query) => (query?.queryKey[1] === id && query.queryKey[2] === wanted ? before : undefined),
  });

export const useContinued = () => useQuery({ queryKey: ["positions"], queryFn: () => get<Continued>("/positions") });

/** Notes where the person stopped; nothing on the page waits for it. */
export const useNotePosition = (id: string) =>
  useChange<Position>((position) => call("PUT", `/catalogue/${id}/position`, position), ["positions"]);

export const useObject = (id: string | undefined) =>
  useQuery({
    queryKey: ["catalogue", "object", id],
    queryFn: () => get<CatalogueObject>(`/catalogue/${id}`),
    enabled: id !== undefined,
  });

/** A change of the house; what it concerns is read again. */
export function useChange<Input>(run: (input: Input) => Promise<unknown>, topics: string[]) {
  const client = useQueryClient();
  return useMutation<unknown, Problem, Input>({
    mutationFn: run,
    onSettled: () => Promise.all(topics.map((topic) => client.invalidateQueries({ queryKey: [topic] }))),
  });
}

export type Decision = { device: Device; standing: string; kinds?: string[]; folders?: number[]; all_folders?: boolean; name?: string };

export const useDecide = () =>
  useChange<Decision>(
    ({ device, standing, kinds, folders, all_folders, name }) =>
      call("PUT", `/devices/${device.id}/decision`, { standing, kinds, folders, all_folders, name }),
    ["devices", "house"],
  );

/** Listens to the house; false while the connection is lost. */
export function useLive(): boolean {
  const client = useQueryClient();
  const [connected, setConnected] = useState(true);
  useEffect(() => {
    const source = new EventSource("/api/v1/live");
    source.onopen = () => {
      setConnected(true);
      // Whatever changed while nobody listened.
      void client.invalidateQueries();
    };
    source.onerror = () => setConnected(false);
    source.addEventListener("changed", (event) => {
      const { topic, streams } = JSON.parse((event as MessageEvent<string>).data) as LiveEvent;
      // Numbers that move all the time come with the event: nothing is asked for them.
      if (streams) {
        client.setQueryData<Streams>(["streams"], streams);
        return;
      }
      void client.invalidateQueries({ queryKey: [topic] });
      if (topic !== "house") void client.invalidateQueries({ queryKey: ["house", "status"] });
    });
    return () => source.close();
  }, [client]);
  return connected;
}
