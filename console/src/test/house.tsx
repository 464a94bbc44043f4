// A house for tests: answers of the service by path, and what was asked of it.
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";
import { vi } from "vitest";
import type { Device } from "../api/client";

type Asked = { method: string; path: string; body: unknown };

/** Answers calls from a table of `METHOD /path` to JSON, or to a stream of events; others get 404. */
export function house(answers: Record<string, unknown>) {
  const asked: Asked[] = [];
  vi.stubGlobal("fetch", async (input: Request | string, options?: RequestInit) => {
    const request = input instanceof Request ? input : new Request(new URL(input, window.location.origin), options);
    const path = new URL(request.url).pathname.replace("/api/v1", "");
    const text = await request.text();
    asked.push({ method: request.method, path, body: text === "" ? null : JSON.parse(text) });
    const answer = answers[`${request.method} ${path}`];
    if (answer instanceof Error) throw answer;
    if (answer instanceof ReadableStream) return new Response(answer);
    const headers = { "Content-Type": "application/json" };
    if (answer === undefined)
      return new Response(JSON.stringify({ type: "about:blank", title: "No such path", status: 404 }), {
        status: 404,
        headers,
      });
    return new Response(JSON.stringify(answer), { headers });
  });
  return asked;
}

export function show(page: ReactNode) {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  return render(
    <QueryClientProvider client={client}>
      <MemoryRouter>{page}</MemoryRouter>
    </QueryClientProvider>,
  );
}

export const television: Device = {
  id: 3,
  label: "Lounge television",
  address: "192.0.2.60",
  endpoints: [{ address: "192.0.2.60", hardware: "02:00:00:00:00:60", last_seen_ms: 1 }],
  standing: "waiting",
  kinds: ["video", "music", "picture"],
  first_seen_ms: 1,
  last_seen_ms: 2,
  proof: [],
};
