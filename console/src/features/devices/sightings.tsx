// What a device did and was refused: a timeline, the latest first.
import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/react";
import { useState } from "react";
import type { Sighting } from "../../api/client";
import { useSightings } from "../../api/queries";
import { Loading, Trouble } from "../../components/basics";
import { LongList } from "../../components/long-list";
import { clock } from "../../lib/words";

/** What a sighting has to do with, as a person says it. */
const GROUPS: [string, string][] = [
  ["", "everything"],
  ["proof", "what proves a step"],
  ["failed", "what failed or was refused"],
  ["discovery", "searches and connections"],
  ["description", "the description"],
  ["lists", "lists"],
  ["media", "media"],
  ["events", "events"],
];

const SORTS = [
  { word: "latest first" },
  { word: "oldest first", compare: (a: Sighting, b: Sighting) => a.first_ms - b.first_ms },
  { word: "most often", compare: (a: Sighting, b: Sighting) => b.times - a.times },
];

const fits = (group: string) => (sighting: Sighting) =>
  group === "" ||
  (group === "proof" ? sighting.proves : group === "failed" ? sighting.failed : sighting.group === group);

export function Sightings({ device }: { device: number }) {
  return (
    <Disclosure as="div" className="mt-3">
      {({ open }) => (
        <>
          <DisclosureButton className="min-h-11 text-accent underline">
            {open ? "Hide" : "Show"} what it did and was refused
          </DisclosureButton>
          <DisclosurePanel>
            <Timeline device={device} />
          </DisclosurePanel>
        </>
      )}
    </Disclosure>
  );
}

function Timeline({ device }: { device: number }) {
  const [group, setGroup] = useState("");
  const sightings = useSightings(device);
  if (!sightings.data) return sightings.error ? <Trouble problem={sightings.error} /> : <Loading />;
  const shown = sightings.data.filter(fits(group));
  return (
    <>
      <label className="mb-3 block">
        <span className="font-bold">Show</span>
        <select
          className="mt-1 block min-h-11 w-full rounded-lg border border-line bg-paper px-3"
          value={group}
          onChange={(event) => setGroup(event.target.value)}
        >
          {GROUPS.map(([key, words]) => (
            <option key={key} value={key}>
              {words} ({sightings.data.filter(fits(key)).length})
            </option>
          ))}
        </select>
      </label>
      {shown.length === 0 ? (
        <p className="text-soft">{group === "" ? "Nothing is kept yet." : "There is nothing of that."}</p>
      ) : (
        <LongList
          label="sightings"
          word="entry"
          many="entries"
          items={shown}
          keyOf={(sighting) => `${sighting.first_ms} ${sighting.endpoint} ${sighting.what}`}
          textOf={(sighting) => `${sighting.what} ${sighting.endpoint} ${clock(sighting.last_ms)}`}
          sorts={SORTS}
          row={(sighting) => <Row sighting={sighting} />}
        />
      )}
    </>
  );
}

function Row({ sighting }: { sighting: Sighting }) {
  const mark = sighting.failed ? "✕" : sighting.proves ? "✓" : "·";
  const tone = sighting.failed ? "text-brick" : sighting.proves ? "text-accent" : "text-soft";
  return (
    <div className="flex gap-3 text-sm">
      <span className={`w-4 shrink-0 text-center ${tone}`} aria-hidden>
        {mark}
      </span>
      <div className="min-w-0">
        <span className={`break-words ${sighting.failed ? "text-brick" : ""}`}>{sighting.what}</span>
        {sighting.proves && <span className="text-accent"> (proof)</span>}
        <span className="block text-soft">
          {clock(sighting.last_ms)}
          {sighting.times > 1 && ` · ${sighting.times} times`}
          {clock(sighting.first_ms) !== clock(sighting.last_ms) && ` since ${clock(sighting.first_ms)}`}
        </span>
      </div>
    </div>
  );
}
