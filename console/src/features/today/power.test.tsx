import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { House } from "../../api/client";
import { house, show } from "../../test/house";
import { IsOff, SwitchOff } from "./power";

const villa = { name: "Villa Pell", doorway: "ask" } as House;

test("the house is switched off until the beginning of a day here, or until somebody says so", async () => {
  const asked = house({ "PUT /house/off": villa });
  show(<SwitchOff house={villa} />);
  await userEvent.click(screen.getByRole("button", { name: "Switch the house off…" }));
  await userEvent.click(screen.getByRole("button", { name: "Switch it off" }));
  await waitFor(() => expect(asked.at(-1)?.body).toEqual({ until_ms: null }));
  await userEvent.click(screen.getByRole("button", { name: "Switch the house off…" }));
  await userEvent.type(screen.getByLabelText(/On again by itself on/), "2027-01-07");
  await userEvent.click(screen.getByRole("button", { name: "Switch it off" }));
  await waitFor(() => expect(asked.at(-1)?.body).toEqual({ until_ms: new Date(2027, 0, 7).getTime() }));
});

test("a house that is off says so in its headline, and until when", async () => {
  const asked = house({ "DELETE /house/off": villa });
  show(<IsOff house={{ ...villa, off: { since_ms: 1, until_ms: new Date(2027, 0, 7).getTime() } }} />);
  expect(screen.getByRole("heading", { name: "Villa Pell is OFF." })).toBeTruthy();
  expect(screen.getByText(/on again by itself on .*2027/)).toBeTruthy();
  await userEvent.click(screen.getByRole("button", { name: "Switch it on" }));
  await waitFor(() => expect(asked.at(-1)).toMatchObject({ method: "DELETE", path: "/house/off" }));
});
