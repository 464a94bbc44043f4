// What a device did and was refused, the latest first.
import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/react";
import { useState } from "react";
import { useSightings } from "../../api/queries";
import { Loading, Trouble } from "../../components/basics";
import { ago } from "../../lib/words";

/** Most that are shown; the client lists more. */
const SHOWN = 100;

export function Sightings({ device }: { device: number }) {
  return (
    <Disclosure as="div" className="mt-3">
      {({ open }) => (
        <>
          <DisclosureButton className="min-h-11 text-accent underline">
            {open ? "Hide" : "Show"} what it did and was refused
          </DisclosureButton>
          <DisclosurePanel>
            <List device={device} />
          </DisclosurePanel>
        </>
      )}
    </Disclosure>
  );
}

function List({ device }: { device: number }) {
  const [failed, setFailed] = useState(false);
  const sightings = useSightings(device);
  if (!sightings.data) return sightings.error ? <Trouble problem={sightings.error} /> : <Loading />;
  const shown = sightings.data.filter((sighting) => sighting.failed || !failed).slice(0, SHOWN);
  return (
    <>
      <label className="flex min-h-11 items-center gap-2">
        <input type="checkbox" className="size-5 accent-accent" checked={failed} onChange={() => setFailed(!failed)} />
        Only what failed or was refused
      </label>
      {shown.length === 0 && <p className="text-soft">{failed ? "Nothing failed." : "Nothing is kept yet."}</p>}
      <ul className="divide-y divide-line border-y border-line text-sm">
        {shown.map((sighting, n) => (
          <li key={n} className="py-2">
            <span className={sighting.failed ? "text-brick" : ""}>
              {sighting.failed && "✕ "}
              {sighting.what}
            </span>
            <span className="block text-soft">
              {ago(sighting.last_ms)}
              {sighting.times > 1 && ` · ${sighting.times} times`}
            </span>
          </li>
        ))}
      </ul>
    </>
  );
}
