import { cleanup, configure } from "@testing-library/react";
import { afterEach, vi } from "vitest";

// A test ends when what it waits for is there; the limits only end one that waits for ever.
configure({ asyncUtilTimeout: 20_000 });

// The test environment lays nothing out, so nothing ever changes its size.
globalThis.ResizeObserver = class {
  observe() {}
  unobserve() {}
  disconnect() {}
};

// All files share one window (vite.config.ts): each test leaves it as it was.
afterEach(() => {
  cleanup();
  document.body.replaceChildren();
  vi.unstubAllGlobals();
  vi.useRealTimers();
  localStorage.clear();
  sessionStorage.clear();
});
