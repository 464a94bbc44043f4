// Who is on the network, what they may, and what is proven.
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Device, type Folder } from "../../api/client";
import { useChange, useDevices, useFolders } from "../../api/queries";
import { Button, Card, Field, Headline, Loading, Trouble } from "../../components/basics";
import { Chosen } from "../../components/chosen";
import { Confirm } from "../../components/dialog";
import { LongList } from "../../components/long-list";
import { Term } from "../../components/term";
import { About } from "./about";
import { AddDevice } from "./add";
import { Asking } from "./asking";
import { Decisions } from "./decisions";
import { Endpoints } from "./endpoints";
import { Recordings } from "./recording";
import { Several } from "./several";
import { Sightings } from "./sightings";
import { grantWords, withheldWords } from "./grant";
import { Ladder, LADDER_WORDS, Unsaved, furthest } from "./ladder";
import { Decide, StandingMark } from "./standing";
import { able, ago, bytes, capital, clock, inWords, KINDS, kindWords } from "../../lib/words";

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

const kindOf = (device: Device) => device.device_kind && kindWords(device.device_kind);

const textOf = (device: Device) =>
  [
    device.label,
    device.address,
    device.hardware,
    device.standing,
    kindOf(device),
    device.room,
    device.note,
    device.maker,
  ].join(" ");

const SORTS = [
  { word: "standing" },
  { word: "name", compare: (a: Device, b: Device) => a.label.localeCompare(b.label) },
  { word: "last seen", compare: (a: Device, b: Device) => b.last_seen_ms - a.last_seen_ms },
];

export function Devices() {
  const devices = useDevices();
  const folders = useFolders();
  const { id } = useParams();
  const navigate = useNavigate();
  const [asking, setAsking] = useState(false);
  const [ticked, setTicked] = useState<number[] | null>(null);
  const tick = (device: number) =>
    setTicked((all) => (all?.includes(device) ? all.filter((one) => one !== device) : [...(all ?? []), device]));
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
      <div className="mb-4 flex flex-wrap gap-3">
        <AddDevice />
        {devices.data.length > 0 && (
          <Button aria-pressed={asking} onClick={() => setAsking(!asking)}>
            {asking ? "Hide who is asking" : "Which one is asking?"}
          </Button>
        )}
        {devices.data.length > 1 && !ticked && <Button onClick={() => setTicked([])}>Decide on several…</Button>}
      </div>
      {asking && (
        <div className="mb-5">
          <Asking />
        </div>
      )}
      {ticked && (
        <Several devices={devices.data.filter((device) => ticked.includes(device.id))} onDone={() => setTicked(null)} />
      )}
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[5fr_4fr]">
        {devices.data.length > 0 && (
          <Card>
            <LongList
              label="devices"
              word="device"
              items={devices.data}
              keyOf={(device) => String(device.id)}
              textOf={textOf}
              sorts={SORTS}
              row={(device) => (
                <div className="flex flex-wrap items-center justify-between gap-x-4">
                  {ticked && (
                    <input
                      type="checkbox"
                      aria-label={`Tick ${device.label}`}
                      className="size-6 shrink-0 accent-accent"
                      checked={ticked.includes(device.id)}
                      onChange={() => tick(device.id)}
                    />
                  )}
                  <div className="min-w-0 grow">
                    <Link
                      id={`device-${device.id}`}
                      to={`/devices/${device.id}`}
                      className="flex min-h-11 flex-wrap items-center gap-2 font-bold hover:underline"
                      aria-current={device === chosen ? "true" : undefined}
                    >
                      {device.label}{" "}
                      <StandingMark standing={device.standing} note={device.by_doorway_ms ? " by the doorway" : ""} />
                    </Link>
                    <p className="text-sm">
                      {device.standing === "admitted"
                        ? `may see ${grantWords(device, folders.data)}`
                        : "may see nothing"}
                    </p>
                    <p className="text-sm text-soft">
                      {[kindOf(device), device.room, device.address].filter(Boolean).join(" · ")} ·{" "}
                      {device.denied ? `${device.denied.what}, got nothing` : furthest(device.proof)} ·{" "}
                      {device.away_since_ms == null
                        ? `seen ${ago(device.last_seen_ms)}`
                        : `switched off, noticed ${ago(device.away_since_ms)}`}
                    </p>
                  </div>
                  <Ladder steps={device.proof} unsaved={device.unsaved} />
                </div>
              )}
            />
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
    ["Described as", device.described_name],
    ["Maker", device.maker],
    ["Model", device.model],
    ["Roles", device.roles?.join(", ")],
    ["Can", device.abilities && able(device.abilities)],
    ["Plays", device.abilities && (device.abilities.formats.join(", ") || "it does not say")],
    ["Asked first", device.asked_ms == null ? "not yet" : clock(device.asked_ms)],
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
      {device.by_doorway_ms != null && (
        <p className="mt-3 rounded-lg bg-amber-wash px-4 py-2">
          The doorway decided that on {clock(device.by_doorway_ms)}, and no person.
        </p>
      )}
      {device.private_hardware && (
        <p className="mt-3 rounded-lg bg-amber-wash px-4 py-2">
          Its hardware address is a <Term of="private address">private one</Term>, which it made up for this network. It
          can come back with another; then it is met as new. Phones let you switch that off for one network.
        </p>
      )}
      <p className="mt-3 flex flex-wrap gap-x-5">
        <Link className="inline-flex min-h-11 items-center text-accent underline" to={`/walkthrough/${device.id}`}>
          Walk it through
        </Link>
        <Link className="inline-flex min-h-11 items-center text-accent underline" to={`/seen-by/${device.id}`}>
          The catalogue as it sees it
        </Link>
      </p>
      <h3 className="mt-5 mb-1 font-bold">
        <Term>Proof</Term>
      </h3>
      {device.unsaved && <Unsaved />}
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
      {(device.kind_proof ?? []).map(({ kind, steps }) => (
        <div key={kind} className="mt-3 flex flex-wrap items-center justify-between gap-3">
          <span>{KINDS.find(([key]) => key === kind)?.[1]}</span>
          <Ladder steps={steps} />
        </div>
      ))}
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
      <About device={device} />
      <Endpoints device={device} />
      <Sightings device={device.id} />
      <Recordings device={device.id} />
      <Decisions device={device.id} />
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
