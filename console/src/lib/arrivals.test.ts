import { expect, test } from "vitest";
import type { Device } from "../api/client";
import { newlyWaiting } from "./arrivals";

const device = (id: number, standing: string) => ({ id, standing, label: `Device ${id}` }) as Device;

test("only who comes to wait while somebody looks is new", () => {
  const devices = [device(1, "waiting"), device(2, "admitted"), device(3, "waiting")];
  expect(newlyWaiting(null, devices)).toEqual([]);
  expect(newlyWaiting(new Set([1]), devices).map(({ id }) => id)).toEqual([3]);
  expect(newlyWaiting(new Set([1, 3]), devices)).toEqual([]);
});
