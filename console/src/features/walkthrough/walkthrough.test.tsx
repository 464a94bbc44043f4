import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { Walkthrough, WalkthroughStep } from "../../api/client";
import { house, show, television } from "../../test/house";
import { WalkDevice } from "./device";
import { Walkthroughs } from "./page";
import { Throughput } from "./throughput";

const open = (step: string, kind?: string): WalkthroughStep => ({ step, kind, state: "open", proves: `${step}.` });
const done = (step: string, kind?: string): WalkthroughStep => ({ ...open(step, kind), state: "done", at_ms: 1 });

const summary = {
  device: 3,
  label: "Lounge television",
  number: 1,
  started_ms: 1,
  verdict: "open",
  verdict_text: "Not confirmed yet.",
  done: 2,
  steps: 3,
  due_again: [],
};

const running: Walkthrough = {
  summary,
  standing: "admitted",
  steps: [
    done("seen"),
    done("started", "music"),
    {
      ...open("kept playing", "music"),
      press: "Play the piece for half a minute.",
      cause: { cause: "slow", seen: "It takes 3 Mbit/s.", remedy: "Use a cable.", place: "device" },
    },
  ],
  remarks: [],
  questions: [{ question: "music-sound", kind: "music", asked: "Is there sound?" }],
  takings: [],
  test_pieces: { made: 20, of: 20 },
};

const path = "/devices/3/walkthrough";

test("what is to be done next stands first, with the likely cause and where to go", async () => {
  house({ [`GET ${path}`]: running });
  show(<WalkDevice id={3} />);
  const next = within(await screen.findByRole("region", { name: "Now" }));
  expect(next.getByText("Play the piece for half a minute.")).toBeTruthy();
  expect(next.getByText(/It takes 3 Mbit\/s\./)).toBeTruthy();
  expect(next.getByRole("link", { name: "Open the device’s page" }).getAttribute("href")).toBe("/devices/3");
  expect(screen.getByText("2 of 3 steps are done.")).toBeTruthy();
});

test("what only a person can say is asked, and an answer can be taken back", async () => {
  const answers: Record<string, unknown> = { [`GET ${path}`]: running, [`PUT ${path}/answers`]: running };
  const asked = house(answers);
  show(<WalkDevice id={3} />);
  const question = within(await screen.findByRole("group", { name: "Is there sound?" }));
  answers[`GET ${path}`] = { ...running, questions: [{ ...running.questions[0], said: false }] };
  await userEvent.click(question.getByRole("button", { name: "No" }));
  const said = () => asked.filter(({ method }) => method === "PUT").map(({ body }) => body);
  await waitFor(() => expect(said()).toEqual([{ question: "music-sound", said: false }]));
  await waitFor(() => expect(question.getByRole("button", { name: "No" }).getAttribute("aria-pressed")).toBe("true"));
  await userEvent.click(question.getByRole("button", { name: "No" }));
  await waitFor(() => expect(said().at(-1)).toEqual({ question: "music-sound" }));
});

test("a device that was never walked through is begun with", async () => {
  const asked = house({ [`POST ${path}`]: running });
  show(<WalkDevice id={3} />);
  await userEvent.click(await screen.findByRole("button", { name: "Begin" }));
  await waitFor(() => expect(asked.some(({ method }) => method === "POST")).toBe(true));
});

test("what is due again counts as not confirmed, and who was never walked through is offered", async () => {
  const confirmed = { ...summary, verdict: "confirmed", verdict_text: "Confirmed.", finished_ms: 2, done: 3 };
  house({
    "GET /devices": [television, { ...television, id: 4, label: "Den console", standing: "admitted" }],
    "GET /walkthroughs": {
      walkthroughs: [
        { ...confirmed, device: 7, label: "Kitchen speaker" },
        { ...confirmed, due_again: ["the grant"] },
      ],
      test_pieces: { made: 20, of: 20 },
    },
  });
  show(<Walkthroughs />);
  expect(await screen.findByRole("heading", { name: "One device is confirmed, one not yet." })).toBeTruthy();
  expect(screen.getByText(/Due again: the grant changed since/)).toBeTruthy();
  expect(screen.getByRole("button", { name: "Walk Den console through" })).toBeTruthy();
  // One that waits is decided on first.
  expect(screen.queryByRole("button", { name: "Walk Lounge television through" })).toBeNull();
});

test("the plot says in words what it shows", () => {
  const taking = { title: "Flash and beep", kind: "video", format: "video/mp4", attempts: 1 };
  const seconds = [4_000_000, 1_500_000, 0, 0, 1_500_000];
  show(<Throughput taking={{ ...taking, need: 12_000_000, rate: 11_200_000, stalls: 2, seconds }} />);
  const plot = screen.getByRole("img", {
    name: "Flash and beep: 11.2 Mbit/s of 12.0 needed, 2 seconds without anything",
  });
  expect(plot.querySelectorAll("rect")).toHaveLength(5);
  expect(plot.querySelectorAll("rect.fill-amber")).toHaveLength(2);
});
