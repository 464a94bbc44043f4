// All that is known of one thing on the network.
import { Link } from "react-router";
import { api, type FoundThing, type NetworkThing, type NewDevice } from "../../api/client";
import { useChange } from "../../api/queries";
import { Button, Card, Trouble } from "../../components/basics";
import { able, ago, clock } from "../../lib/words";
import { Term } from "../../components/term";
import { Services } from "./services";

export function presenceWords(thing: NetworkThing): string {
  if (thing.presence === "here") return "switched on";
  if (thing.away_since_ms != null) return `switched off or away, noticed ${ago(thing.away_since_ms)}`;
  return `seen ${ago(thing.last_ms)}`;
}

type Fact = [string, string | null | undefined];

function Facts({ facts }: { facts: Fact[] }) {
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 text-sm">
      {facts.map(
        ([label, value]) =>
          value && (
            <div key={label} className="contents">
              <dt className="text-soft">{label}</dt>
              <dd className="break-words whitespace-pre-line select-all">{value}</dd>
            </div>
          ),
      )}
    </dl>
  );
}

export function Detail({ thing }: { thing: NetworkThing }) {
  const add = useChange((body: NewDevice) => api.POST("/api/v1/devices", { body }), ["devices", "network"]);
  return (
    <Card title={thing.label}>
      {thing.devices.length === 0 ? (
        <div className="mb-3 space-y-2">
          <p>It has not asked this house for anything, so there is nothing to decide yet.</p>
          <Button
            disabled={add.isPending}
            onClick={() => add.mutate({ address: thing.address, hardware: thing.hardware })}
          >
            Add it to the devices
          </Button>
          <Trouble problem={add.error} />
        </div>
      ) : (
        <ul className="mb-3">
          {thing.devices.map((device) => (
            <li key={device.id}>
              <Link className="inline-flex min-h-11 items-center text-accent underline" to={`/devices/${device.id}`}>
                {device.label}
              </Link>{" "}
              is {device.standing}.
            </li>
          ))}
        </ul>
      )}
      {thing.devices.length > 1 && (
        <p className="mb-3 rounded-lg bg-amber-wash px-4 py-2">
          It is known as several devices. If they are one, put them together on the page of the one that stays: a
          description alone is no proof of that.
        </p>
      )}
      <p className="mb-2 flex flex-wrap gap-x-3">
        {thing.roles.map((role) => (
          <Term key={role}>{role}</Term>
        ))}
      </p>
      <Facts
        facts={[
          ["Now", presenceWords(thing)],
          ["Known because", thing.away_why],
          ["Address", thing.address],
          ["Hardware address", thing.hardware],
          ["Found", clock(thing.first_ms)],
          ["Last heard", ago(thing.last_ms)],
        ]}
      />
      {thing.found.map((found) => (
        <Description key={found.id} found={found} />
      ))}
    </Card>
  );
}

function Description({ found }: { found: FoundThing }) {
  const can = found.abilities;
  return (
    <section className="mt-5 border-t border-line pt-4">
      <h3 className="mb-2 font-bold">What it says of itself</h3>
      {found.problem && <p className="mb-2 rounded-lg bg-amber-wash px-4 py-2 text-amber">⚠ {found.problem}.</p>}
      <Facts
        facts={[
          ["Name", found.name],
          ["Maker", found.maker],
          ["Model", found.model],
          ["Version", found.version],
          ["Can", can && able(can)],
          ["Plays", can && (can.formats.join(", ") || "it does not say")],
          [
            "Content directory",
            found.directory_answers == null ? null : found.directory_answers ? "answers" : "does not answer",
          ],
          ["Software", found.server],
          ["Description", found.location],
          ["Device type", found.device_type],
          ["UDN", found.udns.join(", ")],
        ]}
      />
      <Services found={found} />
    </section>
  );
}
