import { expect, test } from "vitest";
import { address, keepAddressKeys } from "./client";

test("an address has a key for its session and object", () => {
  expect(address("/support")).toBe("/api/v1/support");
  keepAddressKeys({ session: "0011223344556677", secret: "0b".repeat(32) });
  const key = (path: string) => new URL(address(path), "http://host").searchParams.get("key");
  expect(key("/support")).toMatch(/^0011223344556677\.[0-9a-f]{64}$/);
  expect(key("/catalogue/q3_7/file")).toBe(key("/catalogue/q3_7/art/5f/sm"));
  expect(key("/catalogue/q3_7/file")).not.toBe(key("/catalogue/q3_8/file"));
  keepAddressKeys(null);
});
