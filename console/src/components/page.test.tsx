import { cleanup, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, it, vi } from "vitest";
import { show } from "../test/house";
import { Page } from "./page";

afterEach(cleanup);

it("gives the window its title, and a way on when the page fails", async () => {
  vi.spyOn(console, "error").mockImplementation(() => undefined);
  let broken = true;
  const Odd = () => {
    if (broken) throw new Error("odd");
    return <p>all well</p>;
  };
  show(
    <Page title="Devices">
      <Odd />
    </Page>,
  );
  expect(document.title).toBe("Devices · Mostra");
  expect(screen.getByRole("alert").textContent).toContain("This page failed");
  broken = false;
  await userEvent.click(screen.getByRole("button", { name: "Try again" }));
  expect(screen.getByText("all well")).toBeDefined();
});
