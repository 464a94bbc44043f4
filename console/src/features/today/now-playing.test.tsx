import { screen } from "@testing-library/react";
import { expect, test } from "vitest";
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

function Page() {
  useLive();
  return <NowPlaying streams={useStreams().data} />;
}

test("streams come and go with the live events, with what each needs", async () => {
  let events: ReadableStreamDefaultController<Uint8Array> | null = null;
  const live = new ReadableStream<Uint8Array>({
    start: (controller) => {
      events = controller;
    },
  });
  const tell = (event: unknown) => events?.enqueue(new TextEncoder().encode(`data: ${JSON.stringify(event)}\n\n`));
  house({ "GET /streams": none, "GET /live": live });
  show(<Page />);
  await screen.findByText("No device is watching.");
  const playing = { account: "Ilka", title: "Night log", kind: "music", since_ms: 1 };
  tell({ topic: "streams", streams: { streams: [stream], console: [playing], host } });
  await screen.findByText("Harbour at dawn");
  expect(screen.getByRole("img", { name: /120 kB\/s; it needs 100 kB\/s/ })).toBeTruthy();
  expect(screen.getByText(/in the console, by Ilka/)).toBeTruthy();
  tell({ topic: "streams", streams: none });
  await screen.findByText("No device is watching.");
});
