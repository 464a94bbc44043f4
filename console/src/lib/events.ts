// Live events by fetch, which unlike the browser's own reader of them can send a field.
import { fetchApi } from "../api/client";

/** What is done with what comes. */
export interface Listener {
  open: () => void;
  lost: () => void;
  event: (data: string) => void;
}

/** How long is waited before the next try, in milliseconds. */
const AGAIN = 2000;

/** Listens until it is stopped; after the connection is lost, again and again. */
export async function listen(stop: AbortSignal, listener: Listener): Promise<void> {
  while (!stop.aborted) {
    try {
      const answer = await fetchApi("/live", { signal: stop });
      if (answer.ok && answer.body) {
        listener.open();
        await readEvents(answer.body, listener.event);
      }
    } catch {
      // It is tried again.
    }
    if (stop.aborted) return;
    listener.lost();
    await new Promise((resume) => setTimeout(resume, AGAIN));
  }
}

/** Reads events until they end; each is some lines, and an empty one after them. */
export async function readEvents(body: ReadableStream<Uint8Array>, event: (data: string) => void): Promise<void> {
  const reader = body.pipeThrough(new TextDecoderStream() as ReadableWritablePair<string, Uint8Array>).getReader();
  let kept = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    const blocks = (kept + value).split("\n\n");
    kept = blocks.pop() ?? "";
    for (const block of blocks) {
      const lines = block.split("\n").filter((line) => line.startsWith("data:"));
      if (lines.length > 0) event(lines.map((line) => line.slice(5).trimStart()).join("\n"));
    }
  }
}
