import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import { house, show } from "../../test/house";
import { Slideshow } from "./slideshow";

const picture = (n: number) => ({
  id: `i${n}`,
  parent: "0",
  title: `Storm ${n}`,
  class: "object.item.imageItem.photo",
  art: `/catalogue/i${n}/art/1/`,
  facts: { kind: "picture", mime: "image/jpeg", size: 1, file_name: `storm-${n}.jpg` },
});

const page = (start: number, count: number) => ({
  path: [],
  objects: Array.from({ length: count }, (_, n) => picture(start + n + 1)),
  start,
  total: 45,
  incomplete: false,
});

test("it runs through the whole container, and says of a picture that it cannot be shown", async () => {
  let pages = 0;
  house({
    // The second page when the first is nearly through.
    get "GET /catalogue/0/children"() {
      pages += 1;
      return pages === 1 ? page(0, 30) : page(30, 15);
    },
  });
  show(<Slideshow list={{ id: "0", wanted: "", sort: "" }} onClose={() => {}} />);
  await screen.findByText("Storm 1 · 1 of 45");
  // Only what the test does goes on to the next picture, however long it takes.
  fireEvent.keyDown(window, { key: " " });
  fireEvent.error(screen.getByAltText("Storm 1"));
  expect(screen.getByText(/Storm 1 cannot be shown/)).toBeTruthy();
  expect(screen.getByText(/storm-1\.jpg/)).toBeTruthy();
  await userEvent.click(screen.getByRole("button", { name: "Next ›" }));
  expect(screen.getByAltText("Storm 2")).toBeTruthy();
  expect(screen.queryByText(/cannot be shown/)).toBeNull();
  for (let n = 2; n < 30; n++) fireEvent.keyDown(window, { key: "ArrowRight" });
  await waitFor(() => {
    if (screen.queryByText("Storm 30 · 30 of 45")) fireEvent.keyDown(window, { key: "ArrowRight" });
    expect(screen.getByText("Storm 31 · 31 of 45")).toBeTruthy();
  });
  for (let n = 31; n < 46; n++) fireEvent.keyDown(window, { key: "ArrowRight" });
  await screen.findByText("Storm 1 · 1 of 45");
});
