// The ways by which a device is reached; records of one device are put together here, and taken apart.
import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";
import { useState } from "react";
import { api, type Device } from "../../api/client";
import { useChange, useDevices } from "../../api/queries";
import { Button, Trouble } from "../../components/basics";
import { Confirm } from "../../components/dialog";
import { clock } from "../../lib/words";

export function Endpoints({ device }: { device: Device }) {
  const devices = useDevices();
  const [other, setOther] = useState<Device | null>(null);
  const merge = useChange<number>(
    (id) => api.POST("/api/v1/devices/{id}/merge", { params: { path: { id: device.id } }, body: { other: id } }),
    ["devices", "streams"],
  );
  const split = useChange<string>(
    (endpoint) => api.POST("/api/v1/devices/{id}/split", { params: { path: { id: device.id } }, body: { endpoint } }),
    ["devices"],
  );
  const endpoints = device.endpoints ?? [];
  const others = (devices.data ?? []).filter((d) => d.id !== device.id);
  return (
    <section className="mt-5" aria-label="Endpoints">
      <h3 className="mb-1 font-bold">Reached by</h3>
      <ul className="divide-y divide-line border-y border-line text-sm">
        {endpoints.map((endpoint) => (
          <li
            key={endpoint.hardware ?? endpoint.address}
            className="flex min-h-11 flex-wrap items-center justify-between gap-x-4 py-2"
          >
            <span>
              <span className="break-all select-all">{endpoint.hardware ?? "hardware address not known"}</span>
              <span className="block text-soft">
                {endpoint.address} · last seen {clock(endpoint.last_seen_ms)}
              </span>
            </span>
            {endpoints.length > 1 && (
              <Button disabled={split.isPending} onClick={() => split.mutate(endpoint.hardware ?? endpoint.address)}>
                Another device
              </Button>
            )}
          </li>
        ))}
      </ul>
      <Trouble problem={split.error} />
      {others.length > 0 && (
        <Listbox value={other} onChange={setOther}>
          <ListboxButton className="mt-3 min-h-11 rounded-lg border border-line bg-sheet px-4 py-2 text-left font-bold">
            Same device as another record…
          </ListboxButton>
          <ListboxOptions
            anchor={{ to: "bottom start", gap: 4, padding: 12 }}
            className="z-10 max-h-72 overflow-auto rounded-lg border border-line bg-sheet py-1 shadow-lg"
          >
            {others.map((d) => (
              <ListboxOption
                key={d.id}
                value={d}
                className="flex min-h-11 cursor-pointer flex-col justify-center px-4 py-1 data-focus:bg-accent-wash"
              >
                <b>{d.label}</b>
                <span className="text-sm text-soft">
                  {d.address} · {d.standing}
                </span>
              </ListboxOption>
            ))}
          </ListboxOptions>
        </Listbox>
      )}
      <Confirm
        open={other !== null}
        title={`Is ${other?.label ?? "it"} the same device?`}
        yes="Put them together"
        busy={merge.isPending}
        problem={merge.error}
        onYes={() => other && merge.mutate(other.id, { onSuccess: () => setOther(null) })}
        onClose={() => {
          merge.reset();
          setOther(null);
        }}
      >
        {device.label} keeps its name and what it may see. The earliest proof of both counts. “Another device” takes
        them apart again.
      </Confirm>
    </section>
  );
}
