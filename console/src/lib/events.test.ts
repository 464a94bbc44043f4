import { expect, test } from "vitest";
import { readEvents } from "./events";

test("events come whole, however they are cut on their way", async () => {
  const text = ': open\n\nevent: changed\ndata: {"topic":"house"}\n\n: alive\n\ndata: {"topic":\ndata: "folders"}\n\n';
  const bytes = new TextEncoder().encode(text);
  for (const size of [1, 7, 1000]) {
    const body = new ReadableStream<Uint8Array<ArrayBuffer>>({
      start(controller) {
        for (let at = 0; at < bytes.length; at += size) controller.enqueue(bytes.slice(at, at + size));
        controller.close();
      },
    });
    const told: unknown[] = [];
    await readEvents(body, (data) => told.push(JSON.parse(data)));
    expect(told).toEqual([{ topic: "house" }, { topic: "folders" }]);
  }
});
