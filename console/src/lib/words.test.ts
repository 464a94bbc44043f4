import { describe, expect, it } from "vitest";
import { ago, bytes, count, inWords, lasting, length, taken } from "./words";

describe("words", () => {
  it("says sizes by thousands", () => {
    expect([0, 999, 1000, 1_234_567, 12_345_678, 5e12].map(bytes)).toEqual([
      "0 byte",
      "999 byte",
      "1.0 kB",
      "1.2 MB",
      "12 MB",
      "5.0 TB",
    ]);
  });

  it("says how long ago something was", () => {
    const now = Date.UTC(2026, 10, 28, 12);
    const before = (s: number) => ago(now - s * 1000, now);
    expect([3, 45, 60, 3600, 7200].map(before)).toEqual([
      "just now",
      "45 seconds ago",
      "1 minute ago",
      "1 hour ago",
      "2 hours ago",
    ]);
    expect(before(-30)).toBe("just now");
    expect(before(5 * 86400)).toBe("Nov 23, 2026");
  });

  it("writes dates of files as the reader does", () => {
    expect(["2024", "2024-03-15", "2024-03-15T10:05:00+02:00"].map(taken)).toEqual([
      "2024",
      "Mar 15, 2024",
      "Mar 15, 2024, 10:05 AM",
    ]);
  });

  it("says how long something lasts", () => {
    expect(lasting(Date.now())).toBe(", just arrived");
    expect(lasting(Date.now() - 120_000)).toBe(" for 2 minutes");
  });

  it("writes lengths as players do", () => {
    expect([0, 62_000, 3_723_000].map(length)).toEqual(["0:00", "1:02", "1:02:03"]);
  });

  it("counts in words", () => {
    expect([count(1, "device"), count(1200, "entry", "entries"), inWords(3), inWords(40)]).toEqual([
      "1 device",
      "1,200 entries",
      "three",
      "40",
    ]);
  });
});
