import { cleanup, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, describe, expect, it } from "vitest";
import { house, show, television } from "../../test/house";
import { Endpoints } from "./endpoints";
import { grantWords, withheldWords } from "./grant";
import { Decide } from "./standing";

afterEach(cleanup);

const films = { id: 1, label: "Films" };

describe("a grant in words", () => {
  it("names kinds and folders", () => {
    const folder = { ...films } as Parameters<typeof grantWords>[1] extends (infer F)[] | undefined ? F : never;
    expect(grantWords(television, [folder])).toBe("everything");
    expect(grantWords({ ...television, kinds: ["music"], folders: [1] }, [folder])).toBe("music in Films");
    expect(grantWords({ ...television, folders: [9] }, [folder])).toContain("no longer published");
    expect(grantWords({ ...television, kinds: ["video", "picture"] }, [folder])).toBe("films, pictures");
    expect(withheldWords({ ...television, kinds: ["picture"] })).toBe("no films, no music");
    expect(withheldWords(television)).toBe("");
  });
});

describe("deciding", () => {
  it("admits, and takes it back", async () => {
    const asked = house({ "GET /folders": [], "PUT /devices/3/decision": television });
    show(<Decide device={television} />);
    await userEvent.click(screen.getByRole("button", { name: "Admit" }));
    await userEvent.click(await screen.findByRole("button", { name: "Undo" }));
    await waitFor(() => expect(screen.queryByRole("button", { name: "Undo" })).toBeNull());
    const decisions = asked.filter((a) => a.method === "PUT").map((a) => a.body);
    expect(decisions).toEqual([
      { standing: "admitted" },
      { standing: "waiting", kinds: television.kinds, all_folders: true },
    ]);
  });

  it("says what, why and the next step when the service does not answer", async () => {
    house({ "GET /folders": [], "PUT /devices/3/decision": new Error("gone") });
    show(<Decide device={television} />);
    await userEvent.click(screen.getByRole("button", { name: "Refuse" }));
    const alert = await screen.findByRole("alert");
    expect(alert.textContent).toContain("The service does not answer");
    expect(alert.textContent).toContain("mostrad runs");
  });
});

describe("endpoints", () => {
  it("puts two records together after a question", async () => {
    const other = { ...television, id: 4, label: "Lounge television by cable" };
    const asked = house({ "GET /devices": [television, other], "POST /devices/3/merge": television });
    show(<Endpoints device={television} />);
    await userEvent.click(await screen.findByRole("button", { name: /Same device as another/ }));
    await userEvent.click(await screen.findByRole("option", { name: /by cable/ }));
    await userEvent.click(await screen.findByRole("button", { name: "Put them together" }));
    await waitFor(() => expect(asked.at(-2)).toBeDefined());
    const merge = asked.find((a) => a.method === "POST");
    expect(merge).toEqual({ method: "POST", path: "/devices/3/merge", body: { other: 4 } });
    expect(screen.queryByRole("button", { name: "Another device" })).toBeNull();
  });
});
