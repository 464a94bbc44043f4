import { afterEach, beforeEach, expect, test } from "vitest";
import { waitFor } from "@testing-library/react";
import { keepFocus } from "./focus";

let end: () => void;
const by = (id: string) => document.getElementById(id) as HTMLButtonElement;

beforeEach(() => {
  document.body.innerHTML = `
    <div id="root"><main id="page" tabindex="-1">
      <article id="one"><p>One</p><span id="buttons"><button id="admit">Admit</button></span></article>
      <article id="two"><button id="other">Other</button></article>
    </main></div>`;
  end = keepFocus();
});

afterEach(() => end());

test("what takes the place of a pressed button has the focus", async () => {
  by("admit").focus();
  by("buttons").innerHTML = `<button id="undo">Undo</button>`;
  await waitFor(() => expect(document.activeElement).toBe(by("undo")));
  // And where nothing took it, what stands nearest.
  by("one").remove();
  await waitFor(() => expect(document.activeElement).toBe(by("other")));
});

test("a button that was disabled for a moment has the focus again", async () => {
  by("admit").focus();
  by("admit").disabled = true;
  by("admit").blur();
  by("admit").disabled = false;
  await waitFor(() => expect(document.activeElement).toBe(by("admit")));
});

test("whoever presses beside everything keeps no focus, and a whole new page begins at its beginning", async () => {
  by("admit").focus();
  by("page").dispatchEvent(new Event("pointerdown", { bubbles: true }));
  by("admit").remove();
  await new Promise((done) => setTimeout(done, 0));
  expect(document.activeElement).toBe(document.body);
  by("other").focus();
  by("root").innerHTML = `<main id="page" tabindex="-1"><h1>Today</h1></main>`;
  await waitFor(() => expect(document.activeElement).toBe(by("page")));
});
