import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import { house, show } from "../../test/house";
import { Handover } from "./page";

const television = {
  device: 3,
  label: "Lounge television",
  address: "192.0.2.60",
  standing: "admitted",
  may_see: "everything",
  proof: [],
  verdict: "confirmed",
  verdict_text: "Confirmed.",
  causes: [],
  due_again: [],
};

const paper = {
  house: "Pellworth Light",
  at_ms: 1,
  rule: ["New files go to Films.", "The small computer must be on."],
  host: "keeper",
  addresses: [],
  console: "http://127.0.0.1:7641",
  version: "0.1.0",
  doorway: "ask",
  folders: [],
  devices: [television],
  preflight: { worst: "ok", checks: [] },
  settings: [],
  changes: [],
};

test("a house whose devices are all confirmed is ready, and is handed over once", async () => {
  const answers: Record<string, unknown> = { "GET /handover": paper, "POST /handover": paper };
  const asked = house(answers);
  show(<Handover />);
  expect(await screen.findByText("Every device is confirmed: ready to be handed over.")).toBeTruthy();
  expect(screen.getByText("Never handed over yet.")).toBeTruthy();
  expect(screen.queryByText(/Changed since/)).toBeNull();
  answers["GET /handover"] = { ...paper, last_ms: 5, changes: [] };
  await userEvent.click(screen.getByRole("button", { name: "It is handed over" }));
  await waitFor(() => expect(asked.some(({ method }) => method === "POST")).toBe(true));
  expect(await screen.findByText("Nothing.")).toBeTruthy();
});

test("a confirmed device of which something changed since is not confirmed", async () => {
  house({ "GET /handover": { ...paper, devices: [{ ...television, due_again: ["the folders"] }] } });
  show(<Handover />);
  expect(await screen.findByText("One device is not confirmed yet.")).toBeTruthy();
  expect(screen.getByText(/Due again: the folders changed since/)).toBeTruthy();
});
