// Numbers, times and sizes in words.

const NUMBERS = [
  "no",
  "one",
  "two",
  "three",
  "four",
  "five",
  "six",
  "seven",
  "eight",
  "nine",
  "ten",
  "eleven",
  "twelve",
];

/** Small numbers as words, for sentences. */
export const inWords = (n: number) => NUMBERS[n] ?? String(n);

/** `1 device`, `2 devices`. */
export const count = (n: number, word: string, many = `${word}s`) =>
  `${n.toLocaleString("en")} ${n === 1 ? word : many}`;

export const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

const UNITS = ["byte", "kilobyte", "megabyte", "gigabyte", "terabyte"];

/** Bytes by thousands. */
export function bytes(n: number): string {
  const power = Math.min(UNITS.length - 1, n < 1000 ? 0 : Math.floor(Math.log10(n) / 3));
  const value = n / 1000 ** power;
  const digits = power > 0 && value < 10 ? 1 : 0;
  return new Intl.NumberFormat("en", {
    style: "unit",
    unit: UNITS[power],
    unitDisplay: "short",
    minimumFractionDigits: digits,
    maximumFractionDigits: digits,
  }).format(value);
}

/** `1:02:03` or `2:03`. */
export function length(ms: number): string {
  const s = Math.floor(ms / 1000);
  const two = (n: number) => String(n).padStart(2, "0");
  return s >= 3600
    ? `${Math.floor(s / 3600)}:${two(Math.floor(s / 60) % 60)}:${two(s % 60)}`
    : `${Math.floor(s / 60)}:${two(s % 60)}`;
}

const AGO = new Intl.RelativeTimeFormat("en");

/** How long ago, in plain words. */
export function ago(ms: number, now = Date.now()): string {
  const s = Math.max(0, Math.round((now - ms) / 1000));
  if (s < 10) return "just now";
  if (s < 60) return AGO.format(-s, "second");
  if (s < 3600) return AGO.format(-Math.round(s / 60), "minute");
  if (s < 86400) return AGO.format(-Math.round(s / 3600), "hour");
  return new Date(ms).toLocaleDateString([], { dateStyle: "medium" });
}

/** How long something lasts so far. */
export const lasting = (since: number) => {
  const text = ago(since);
  return text === "just now"
    ? ", just arrived"
    : text.endsWith(" ago")
      ? ` for ${text.slice(0, -4)}`
      : ` since ${text}`;
};

/** A day and a time of day, to the minute, as the reader writes them. */
export const day = (ms: number) => new Date(ms).toLocaleDateString([], { dateStyle: "long" });
export const moment = (ms: number) => new Date(ms).toLocaleString([], { dateStyle: "long", timeStyle: "short" });

/** A date as a file has it (`2024`, `2024-03-15`, `2024-03-15T10:00:00+02:00`), as the reader writes it. */
export function taken(text: string): string {
  const [year, month, day, hour, minute] = (text.match(/\d+/g) ?? []).map(Number);
  if (year === undefined || month === undefined || day === undefined) return text;
  // The time of day where it was taken, whatever the clock here says.
  const at = new Date(year, month - 1, day, hour ?? 0, minute ?? 0);
  return hour === undefined
    ? at.toLocaleDateString([], { dateStyle: "medium" })
    : at.toLocaleString([], { dateStyle: "medium", timeStyle: "short" });
}

/** A time of day, as the reader writes it. */
export const clockTime = (ms: number) => new Date(ms).toLocaleTimeString([], { timeStyle: "medium" });

export const clock = (ms: number) => new Date(ms).toLocaleString([], { dateStyle: "medium", timeStyle: "medium" });

/** The kinds of items, with their names for people. */
export const KINDS = [
  ["video", "Films"],
  ["music", "Music"],
  ["picture", "Pictures"],
] as const;

/** What a renderer can do. */
export const able = (can: { pauses: boolean; seeks: boolean; next: boolean; volume: boolean; mute: boolean }) =>
  (
    [
      ["pause", can.pauses],
      ["go to a place", can.seeks],
      ["take the next item early", can.next],
      ["set the volume", can.volume],
      ["mute", can.mute],
    ] as const
  )
    .filter(([, does]) => does)
    .map(([word]) => word)
    .join(", ");

/** The kinds of devices, as the service names them. */
export const DEVICE_KINDS = [
  "television",
  "console",
  "disc-player",
  "speaker",
  "phone",
  "tablet",
  "computer",
  "streaming-stick",
];

/** A kind of device as people say it. */
export const kindWords = (kind: string) => kind.replace("-", " ");
