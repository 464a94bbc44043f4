// Is everything all right; who waits; who watches; what needs attention.
import { useState } from "react";
import { Link } from "react-router";
import type { Device, Status } from "../../api/client";
import { useDevices, useFolders, useStatus, useStreams } from "../../api/queries";
import { Card, Headline, Loading } from "../../components/basics";
import { Ladder, LADDER_WORDS, furthest } from "../../features/devices/ladder";
import { Decide, StandingMark } from "../../features/devices/standing";
import { NowPlaying } from "./now-playing";
import { IsOff, SwitchOff } from "./power";
import { ago, capital, count, inWords, lasting } from "../../lib/words";

function sentence(status: Status): string {
  const parts = [];
  if (status.admitted > 0)
    parts.push(`${inWords(status.admitted)} ${status.admitted === 1 ? "device is" : "devices are"} in`);
  if (status.waiting > 0)
    parts.push(`${inWords(status.waiting)} ${status.waiting === 1 ? "waits" : "wait"} at the door`);
  if (status.streams > 0) parts.push(`${inWords(status.streams)} ${status.streams === 1 ? "is" : "are"} watching`);
  if (parts.length === 0) return `${status.house.name} is on. No device has asked yet.`;
  return `${status.house.name} is on. ${capital(parts.join(", "))}.`;
}

export function Today() {
  const status = useStatus();
  const devices = useDevices();
  const streams = useStreams();
  const folders = useFolders();
  if (!status.data || !devices.data) return <Loading />;
  const changed = status.data.changed_ms ? ` · last change ${ago(status.data.changed_ms)}` : "";
  const below = status.data.loaded
    ? `${count(status.data.items, "item")} from ${count(status.data.folders, "folder")}${changed}`
    : "The catalogue is being read.";
  const failed = folders.data?.filter((f) => f.scan?.state === "failed") ?? [];
  return (
    <>
      {status.data.house.off ? (
        <IsOff house={status.data.house} />
      ) : (
        <Headline below={below}>{sentence(status.data)}</Headline>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[5fr_4fr]">
        <Card>
          <Door devices={devices.data} />
          <Proven devices={devices.data} />
        </Card>
        <Card>
          <NowPlaying streams={streams.data} />
          <h2 className="mt-6 mb-2 font-bold">Needs attention</h2>
          <ul className="divide-y divide-line border-t border-line">
            {status.data.attention.map((text) => (
              <li key={text} className="py-3 text-amber">
                ⚠ {text}
              </li>
            ))}
            {failed.map((folder) => (
              <li key={folder.id} className="py-3">
                <b>{folder.label}</b> could not be scanned.
                <span className="block text-sm text-soft">{folder.scan?.problem}</span>
              </li>
            ))}
            {folders.data?.length === 0 && (
              <li className="py-3">
                Nothing is published yet.{" "}
                <Link to="/begin" className="text-accent underline">
                  Begin with the first folder
                </Link>
              </li>
            )}
            {status.data.attention.length + failed.length === 0 && (folders.data?.length ?? 0) > 0 && (
              <li className="py-3 text-soft">Nothing needs attention.</li>
            )}
          </ul>
          <Link className="mt-2 inline-flex min-h-11 items-center text-accent underline" to="/preflight">
            Look at everything: preflight
          </Link>
        </Card>
      </div>
      {!status.data.house.off && (
        <div className="mt-6">
          <SwitchOff house={status.data.house} />
        </div>
      )}
    </>
  );
}

function Door({ devices }: { devices: Device[] }) {
  // A device just decided on stays in place for a moment, for its undo.
  const [met, setMet] = useState<number[]>([]);
  const waiting = devices.filter((d) => d.standing === "waiting");
  const fresh = waiting.filter((d) => !met.includes(d.id)).map((d) => d.id);
  if (fresh.length > 0) setMet([...met, ...fresh]);
  const shown = devices.filter((d) => d.standing === "waiting" || met.includes(d.id));
  return (
    <div aria-live="polite">
      {shown.length > 0 && <h2 className="mb-1 font-bold">Waiting at the door</h2>}
      {shown.map((device) => (
        <article key={device.id} className="border-b border-line py-3 last:border-0">
          <p className="font-bold">
            {device.label}{" "}
            <StandingMark
              standing={device.standing}
              note={device.standing === "waiting" ? lasting(device.first_seen_ms) : undefined}
            />
          </p>
          <p className="mb-3 text-sm break-words text-soft">
            {[device.hardware, device.address, device.user_agent].filter(Boolean).join(" · ")}
          </p>
          <Decide device={device} />
        </article>
      ))}
      {devices.length === 0 && (
        <p className="text-soft">
          Nobody has asked yet. Open the source or server menu on a television; it appears here by itself.
        </p>
      )}
    </div>
  );
}

function Proven({ devices }: { devices: Device[] }) {
  const inside = devices.filter((d) => d.standing === "admitted");
  if (inside.length === 0) return null;
  return (
    <>
      <h2 className="mt-5 mb-2 font-bold">Proof</h2>
      <ul className="divide-y divide-line border-y border-line">
        {inside.map((device) => (
          <li key={device.id} className="flex flex-wrap items-center justify-between gap-x-4 py-2">
            <div className="min-w-0">
              <Link to={`/devices/${device.id}`} className="font-bold hover:underline">
                {device.label}
              </Link>
              <p className="text-sm text-soft">{furthest(device.proof)}</p>
            </div>
            <Ladder steps={device.proof} unsaved={device.unsaved} />
          </li>
        ))}
      </ul>
      <p className="mt-3 text-sm text-soft">{LADDER_WORDS}</p>
    </>
  );
}
