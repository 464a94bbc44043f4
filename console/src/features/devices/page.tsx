// Who is on the network, what they may, and what is proven.
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Device, type Folder } from "../../api/client";
import { useChange, useDevices, useFolders } from "../../api/queries";
import { Button, Card, Field, Headline, Loading, Trouble } from "../../components/basics";
import { Chosen } from "../../components/chosen";
import { Confirm } from "../../components/dialog";
import { Endpoints } from "./endpoints";
import { Sightings } from "./sightings";
import { grantWords, withheldWords } from "./grant";
import { Ladder, LADDER_WORDS, furthest } from "./ladder";
import { Decide, StandingMark } from "./standing";
import { ago, bytes, capital, clock, inWords } from "../../lib/words";

function sentence(devices: Device[]): string {
  if (devices.length === 0) return "No device has asked yet.";
  const confirmed = devices.filter((d) => d.proof.some((s) => s.step === "started" && s.confirmed)).length;
  const known = `${capital(inWords(devices.length))} ${devices.length === 1 ? "device is" : "devices are"} known`;
  return `${known}; ${confirmed === 0 ? "none has" : confirmed === 1 ? "one has" : `${inWords(confirmed)} have`} played something.`;
}

/** What is done differently for a device, in the words of its traits. */
function differently(device: Device): string | null {
  const all = Object.entries(device.traits ?? {}).map(([name, value]) => {
    if (value !== null && typeof value === "object") return name;
    return value === true ? name : `${name} ${String(value)}`;
  });
  if (all.length === 0) return null;
  const rules = device.rules?.length ? ` (by rule: ${device.rules.join(", ")})` : "";
  return all.join(", ") + rules;
}

/** What it may see, and what it therefore does not. */
function maySee(device: Device, folders: Folder[] | undefined): string {
  if (device.standing === "refused") return "nothing: it is refused";
  if (device.standing === "waiting") return "nothing: it waits for your decision";
  const withheld = withheldWords(device);
  return grantWords(device, folders) + (withheld ? ` (${withheld}: change that with “Choose…”)` : "");
}

export function Devices() {
  const devices = useDevices();
  const folders = useFolders();
  const { id } = useParams();
  const navigate = useNavigate();
  if (!devices.data) return devices.error ? <Trouble problem={devices.error} /> : <Loading />;
  const chosen = devices.data.find((d) => String(d.id) === id);
  return (
    <>
      <Headline
        below={
          devices.data.length === 0
            ? "Open the source or server menu on a television; it appears here by itself."
            : LADDER_WORDS
        }
      >
        {sentence(devices.data)}
      </Headline>
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[5fr_4fr]">
        {devices.data.length > 0 && (
          <Card>
            <ul aria-live="polite" className="divide-y divide-line">
              {devices.data.map((device) => (
                <li
                  key={device.id}
                  className="flex flex-wrap items-center justify-between gap-x-4 py-3 first:pt-0 last:pb-0"
                >
                  <div className="min-w-0">
                    <Link
                      id={`device-${device.id}`}
                      to={`/devices/${device.id}`}
                      className="flex min-h-11 flex-wrap items-center gap-2 font-bold hover:underline"
                      aria-current={device === chosen ? "true" : undefined}
                    >
                      {device.label} <StandingMark standing={device.standing} />
                    </Link>
                    <p className="text-sm">
                      {device.standing === "admitted"
                        ? `may see ${grantWords(device, folders.data)}`
                        : "may see nothing"}
                    </p>
                    <p className="text-sm text-soft">
                      {device.address} · {device.denied ? `${device.denied.what}, got nothing` : furthest(device.proof)}{" "}
                      · seen {ago(device.last_seen_ms)}
                    </p>
                  </div>
                  <Ladder steps={device.proof} />
                </li>
              ))}
            </ul>
          </Card>
        )}
        {chosen && (
          <Chosen
            key={chosen.id}
            label={chosen.label}
            row={`device-${chosen.id}`}
            onBack={() => void navigate("/devices")}
          >
            <Detail device={chosen} />
          </Chosen>
        )}
      </div>
    </>
  );
}

/** What it asked for in vain: a device that is not let in proves nothing by asking. */
function Denied({ device }: { device: Device }) {
  if (!device.denied) return null;
  return (
    <p className="mt-3 rounded-lg bg-amber-wash px-4 py-2">
      It {device.denied.what} {ago(device.denied.at_ms)} and got nothing:{" "}
      {device.standing === "refused" ? "it is refused" : "it waits for a decision"}.
    </p>
  );
}

function Detail({ device }: { device: Device }) {
  const [name, setName] = useState(device.name ?? "");
  const [forgetting, setForgetting] = useState(false);
  const folders = useFolders();
  const navigate = useNavigate();
  const rename = useChange(
    () => api.PUT("/api/v1/devices/{id}/name", { params: { path: { id: device.id } }, body: { name } }),
    ["devices"],
  );
  const forget = useChange(
    () => api.DELETE("/api/v1/devices/{id}", { params: { path: { id: device.id } } }),
    ["devices", "house"],
  );
  const facts: [string, string | null | undefined][] = [
    ["Calls itself", device.user_agent],
    ["May see", maySee(device, folders.data)],
    ["First seen", clock(device.first_seen_ms)],
    ["Last seen", clock(device.last_seen_ms)],
    ["Done differently", differently(device)],
    ["UDN", device.udns?.join(", ")],
  ];
  return (
    <Card title={device.label}>
      <Decide device={device} />
      <Denied device={device} />
      <h3 className="mt-5 mb-1 font-bold">Proof</h3>
      <ol className="divide-y divide-line border-y border-line">
        {device.proof.map((step) => (
          <li key={step.step} className="flex gap-3 py-2">
            <span className={step.confirmed ? "text-accent" : "text-soft"} aria-hidden>
              {step.confirmed ? "✓" : "○"}
            </span>
            <div className="min-w-0">
              <b>{step.step}</b>
              {!step.confirmed && <span className="text-soft"> not yet</span>}
              {step.confirmed && (
                <p className="text-sm break-words">
                  {[step.what, step.item, step.bytes != null ? `${bytes(step.bytes)} acknowledged` : null]
                    .filter(Boolean)
                    .join(" · ")}
                  {step.at_ms != null && <span className="block text-soft">{clock(step.at_ms)}</span>}
                </p>
              )}
            </div>
          </li>
        ))}
      </ol>
      <form
        className="mt-4 flex items-end gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          rename.mutate(undefined);
        }}
      >
        <div className="grow">
          <Field
            label="Name"
            value={name}
            maxLength={63}
            required
            placeholder="Lounge television"
            onChange={(e) => setName(e.target.value)}
          />
        </div>
        <Button type="submit" disabled={name.trim() === "" || name === device.name}>
          Rename
        </Button>
      </form>
      <Trouble problem={rename.error} />
      <dl className="mt-4 grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 text-sm">
        {facts.map(
          ([label, value]) =>
            value && (
              <div key={label} className="contents">
                <dt className="text-soft">{label}</dt>
                <dd className="break-all select-all">{value}</dd>
              </div>
            ),
        )}
      </dl>
      <Endpoints device={device} />
      <Sightings device={device.id} />
      <Button look="danger" className="mt-4" onClick={() => setForgetting(true)}>
        Forget this device
      </Button>
      <Confirm
        open={forgetting}
        title={`Forget ${device.label}?`}
        yes="Forget it"
        busy={forget.isPending}
        problem={forget.error}
        onYes={() => forget.mutate(undefined, { onSuccess: () => void navigate("/devices") })}
        onClose={() => setForgetting(false)}
      >
        Its name, standing and proof go. If it comes back it is met as new.
      </Confirm>
    </Card>
  );
}
