import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, it, vi } from "vitest";
import { Chosen } from "./chosen";

afterEach(cleanup);

it("takes the focus when it is chosen and gives it back to its row", async () => {
  const scrolled = vi.fn();
  Element.prototype.scrollIntoView = scrolled;
  const below = vi.spyOn(Element.prototype, "getBoundingClientRect");
  below.mockReturnValue({ top: window.innerHeight + 400 } as DOMRect);
  const back = vi.fn();
  render(
    <>
      <button id="row-7">Harbour at dawn</button>
      <Chosen label="Harbour at dawn" row="row-7" onBack={back}>
        <p>the film</p>
      </Chosen>
    </>,
  );
  expect(document.activeElement).toBe(screen.getByRole("region", { name: "Harbour at dawn" }));
  expect(scrolled).toHaveBeenCalledWith({ block: "start" });
  await userEvent.click(screen.getByRole("button", { name: "‹ Back to the list" }));
  expect(back).toHaveBeenCalledOnce();
  expect(document.activeElement?.id).toBe("row-7");
  below.mockRestore();
});
