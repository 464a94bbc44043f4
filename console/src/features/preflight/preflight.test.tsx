import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";
import type { PreflightCheck } from "../../api/client";
import { house, show } from "../../test/house";
import { Preflight } from "./page";

const check = (id: string, outcome: string): PreflightCheck => ({
  id,
  title: `Check ${id}`,
  outcome,
  measured: `${id} was measured.`,
  why: `Why ${id} matters.`,
});

test("what stops devices stands first, with a command to copy; what is right says why on demand", async () => {
  const closed = { ...check("firewall", "stops you"), remedy: "Open it.", command: "sudo ufw allow 7640/tcp" };
  const checks = [check("clock", "ok"), check("cable", "attention"), closed, check("names", "unknown")];
  house({ "GET /preflight": { looked_ms: 1, worst: "stops you", checks } });
  show(<Preflight />);
  expect(await screen.findByRole("heading", { name: "Something stops devices." })).toBeTruthy();
  const titles = screen.getAllByRole("heading", { level: 2 }).map((title) => title.textContent);
  expect(titles).toEqual(["Stops you", "Needs attention", "Could not be looked at", "As it should be"]);
  const user = userEvent.setup();
  await user.click(screen.getByRole("button", { name: "Copy" }));
  expect(await navigator.clipboard.readText()).toBe("sudo ufw allow 7640/tcp");
  expect(await screen.findByText("Copied.")).toBeTruthy();
  const right = screen.getByText("Check clock").closest("details");
  expect(within(right as HTMLElement).getByText("Why clock matters.")).toBeTruthy();
});

test("a browser without a clipboard says so", async () => {
  const closed = { ...check("firewall", "stops you"), command: "sudo ufw allow 7640/tcp" };
  house({ "GET /preflight": { looked_ms: 1, worst: "stops you", checks: [closed] } });
  show(<Preflight />);
  const user = userEvent.setup();
  vi.stubGlobal("navigator", { ...navigator, clipboard: undefined });
  await user.click(await screen.findByRole("button", { name: "Copy" }));
  expect(await screen.findByText(/select the text by hand/)).toBeTruthy();
  vi.unstubAllGlobals();
});

test("before anything was looked at, nothing is said to be right", async () => {
  house({ "GET /preflight": { worst: "ok", checks: [] } });
  show(<Preflight />);
  expect(await screen.findByRole("heading", { name: "Just a moment." })).toBeTruthy();
});
