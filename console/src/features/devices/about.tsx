// What a person says of a device: what sort it is, where it stands, what is to be remembered.
import { useState } from "react";
import { api, type Device, type DeviceAbout } from "../../api/client";
import { useChange, useDirections } from "../../api/queries";
import { Button, Field, Trouble } from "../../components/basics";
import { DEVICE_KINDS, kindWords } from "../../lib/words";

export function About({ device }: { device: Device }) {
  const save = useChange(
    (body: DeviceAbout) => api.PUT("/api/v1/devices/{id}/about", { params: { path: { id: device.id } }, body }),
    ["devices"],
  );
  const directions = useDirections();
  const [room, setRoom] = useState(device.room ?? "");
  const [note, setNote] = useState(device.note ?? "");
  const { device_kind: kind, proposed_kind: seems } = device;
  const shown = kind ?? seems?.kind;
  const where = directions.data?.find((one) => one.device_kind === shown);
  const unchanged = room === (device.room ?? "") && note === (device.note ?? "");
  return (
    <section className="mt-5" aria-label="About this device">
      <h3 className="mb-1 font-bold">What it is</h3>
      {!kind && seems && (
        <p className="mb-2 flex flex-wrap items-center gap-3">
          <span>
            It seems to be a {kindWords(seems.kind)}: {seems.why}.
          </span>
          <Button disabled={save.isPending} onClick={() => save.mutate({ device_kind: seems.kind })}>
            It is
          </Button>
        </p>
      )}
      <form
        className="space-y-3"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate({ room, note });
        }}
      >
        <label className="block">
          <span className="font-bold">Kind</span>
          <select
            className="mt-1 block min-h-11 w-full rounded-lg border border-line bg-paper px-3"
            value={kind ?? ""}
            onChange={(event) => save.mutate({ device_kind: event.target.value })}
          >
            <option value="">not said</option>
            {DEVICE_KINDS.map((word) => (
              <option key={word} value={word}>
                {kindWords(word)}
              </option>
            ))}
          </select>
        </label>
        <Field label="Room" value={room} maxLength={255} onChange={(event) => setRoom(event.target.value)} />
        <Field label="Note" value={note} maxLength={255} onChange={(event) => setNote(event.target.value)} />
        <Button type="submit" disabled={unchanged || save.isPending}>
          Keep
        </Button>
      </form>
      <Trouble problem={save.error} />
      {where && (
        <details className="mt-3">
          <summary className="min-h-11 cursor-pointer text-accent underline">
            Where things are on a {kindWords(where.device_kind)}
          </summary>
          <dl className="space-y-2 text-sm">
            <dt className="font-bold">Network media</dt>
            <dd>{where.media}</dd>
            <dt className="font-bold">Hardware address</dt>
            <dd>{where.hardware}</dd>
            <dt className="font-bold">To search again</dt>
            <dd>{where.again}</dd>
          </dl>
        </details>
      )}
    </section>
  );
}
