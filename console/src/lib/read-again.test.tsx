import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { render, screen } from "@testing-library/react";
import { expect, test } from "vitest";
import { readAgain } from "./read-again";

test("what is read for the first time while it changes is read once more", async () => {
  const client = new QueryClient();
  let house = "on";
  let answer = () => {};
  const read = () => {
    // As the service knew it when it was asked.
    const then = house;
    return new Promise<string>((resolve) => {
      answer = () => resolve(then);
      if (then === "off") resolve(then);
    });
  };
  function House() {
    return <p>{useQuery({ queryKey: ["get", "/status"], queryFn: read }).data ?? "nothing"}</p>;
  }
  render(
    <QueryClientProvider client={client}>
      <House />
    </QueryClientProvider>,
  );
  expect(screen.getByText("nothing")).toBeTruthy();
  house = "off";
  void readAgain(client, () => true);
  answer();
  expect(await screen.findByText("off")).toBeTruthy();
});
