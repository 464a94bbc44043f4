import { act, screen } from "@testing-library/react";
import { expect, test, vi } from "vitest";
import type { StreamList } from "../../api/client";
import { useLive, useStreams } from "../../api/queries";
import { house, show } from "../../test/house";
import { NowPlaying } from "./now-playing";

const host = { processor: [], disk: [] };
const none: StreamList = { streams: [], console: [], host };
const stream = {
  id: 1,
  device: 3,
  label: "Lounge television",
  title: "Harbour at dawn",
  kind: "video",
  since_ms: 1,
  delivered: 500_000,
  position: 500_000,
  size: 4_000_000,
  duration_ms: 40_000,
  rate: 120_000,
  average: 110_000,
  paused: false,
  history: [90_000, 120_000],
};

const live = vi.hoisted(() => ({ tell: (data: string): void => void data }));

vi.mock("../../lib/events", () => ({
  listen: (_: AbortSignal, listener: { event: (data: string) => void }) => {
    live.tell = listener.event;
  },
}));

const tell = (event: unknown) => live.tell(JSON.stringify(event));

function Page() {
  useLive();
  return <NowPlaying streams={useStreams().data} />;
}

test("streams come and go with the live events, with what each needs", async () => {
  house({ "GET /streams": none });
  show(<Page />);
  await screen.findByText("No device is watching.");
  const playing = { account: "Ilka", title: "Night log", kind: "music", since_ms: 1 };
  act(() => tell({ topic: "streams", streams: { streams: [stream], console: [playing], host } }));
  await screen.findByText("Harbour at dawn");
  expect(screen.getByRole("img", { name: /120 kB\/s; it needs 100 kB\/s/ })).toBeTruthy();
  expect(screen.getByText(/in the console, by Ilka/)).toBeTruthy();
  act(() => tell({ topic: "streams", streams: none }));
  await screen.findByText("No device is watching.");
});
