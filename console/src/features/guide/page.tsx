// A new house is guided: name, first folder, doorway, tablet, first device.
import { useState, type ReactNode } from "react";
import { useNavigate } from "react-router";
import { api } from "../../api/client";
import { useAccess, useChange, useDevices, useFolders, usePreflight, useStatus } from "../../api/queries";
import { Button, Card, Field, Headline, Trouble } from "../../components/basics";
import { Decide, StandingMark } from "../../features/devices/standing";
import { Checks } from "../../features/preflight/page";
import { Picker } from "../../features/folders/picker";
import { OpenConsole } from "../../features/settings/open-console";

const STEPS = ["Name", "First folder", "Doorway", "Tablet", "Preflight", "First device"];

export function Guide() {
  const [step, setStep] = useState(0);
  const navigate = useNavigate();
  const next = () => (step + 1 < STEPS.length ? setStep(step + 1) : void navigate("/"));
  return (
    <div className="max-w-2xl">
      <ol className="mb-6 flex flex-wrap gap-x-4 gap-y-1 text-sm" aria-label="Steps">
        {STEPS.map((name, n) => (
          <li
            key={name}
            aria-current={n === step ? "step" : undefined}
            className={n === step ? "font-bold text-accent" : "text-soft"}
          >
            {n < step ? "✓" : n + 1} {name}
          </li>
        ))}
      </ol>
      {step === 0 && <Name onNext={next} />}
      {step === 1 && <FirstFolder onNext={next} />}
      {step === 2 && <DoorwayStep onNext={next} />}
      {step === 3 && <Tablet onNext={next} />}
      {step === 4 && <PreflightStep onNext={next} />}
      {step === 5 && <FirstDevice onNext={next} />}
    </div>
  );
}

/** What stands in the way, before the first device is looked for. */
function PreflightStep({ onNext }: { onNext: () => void }) {
  const preflight = usePreflight();
  const found = preflight.data?.checks.filter(({ outcome }) => outcome === "stops you" || outcome === "attention");
  return (
    <>
      <Headline below="What was looked at is on the page Preflight, and is kept current.">
        {found === undefined
          ? "Looking at this computer and its network…"
          : found.length === 0
            ? "Nothing stands in the way."
            : "This can stand in the way."}
      </Headline>
      <Checks checks={found ?? []} />
      <Trouble problem={preflight.error} />
      <Forward onNext={onNext}>Go on</Forward>
    </>
  );
}

function Forward({ onNext, children, skip }: { onNext: () => void; children: ReactNode; skip?: boolean }) {
  return (
    <Button look={skip ? "plain" : "main"} onClick={onNext} className="mt-4">
      {children}
    </Button>
  );
}

function Name({ onNext }: { onNext: () => void }) {
  const status = useStatus();
  const [name, setName] = useState<string | null>(null);
  const shown = name ?? status.data?.house.name ?? "";
  const save = useChange(() => api.PATCH("/api/v1/house", { body: { name: shown } }), ["house"]);
  return (
    <>
      <Headline>What is this house called?</Headline>
      <Card>
        <form
          onSubmit={(event) => {
            event.preventDefault();
            save.mutate(undefined, { onSuccess: onNext });
          }}
        >
          <Field
            label="Name"
            hint="Televisions show it in their list of servers."
            value={shown}
            maxLength={63}
            required
            onChange={(e) => setName(e.target.value)}
          />
          <Button look="main" type="submit" className="mt-4" disabled={save.isPending}>
            Go on
          </Button>
          <Trouble problem={save.error} />
        </form>
      </Card>
    </>
  );
}

function FirstFolder({ onNext }: { onNext: () => void }) {
  const folders = useFolders();
  const some = (folders.data?.length ?? 0) > 0;
  const [picking, setPicking] = useState(true);
  return (
    <>
      <Headline below="Films, music and pictures stay where they are; nothing is moved, copied or changed.">
        Where are the files?
      </Headline>
      <Card>
        {some && <p className="mb-3">Published: {folders.data?.map((f) => f.label).join(", ")}.</p>}
        {picking || !some ? (
          <Picker onDone={() => setPicking(false)} />
        ) : (
          <Button onClick={() => setPicking(true)}>Another folder</Button>
        )}
      </Card>
      <Forward onNext={onNext} skip={!some}>
        {some ? "Go on" : "Later"}
      </Forward>
    </>
  );
}

function DoorwayStep({ onNext }: { onNext: () => void }) {
  const save = useChange((doorway: string) => api.PATCH("/api/v1/house", { body: { doorway } }), ["house"]);
  const choose = (doorway: string) => save.mutate(doorway, { onSuccess: onNext });
  return (
    <>
      <Headline>When a device comes that was never here before?</Headline>
      <Card>
        <div className="grid gap-3 sm:grid-cols-2">
          <Button look="main" className="text-left" onClick={() => choose("ask")}>
            <b className="block">Ask</b> It waits until somebody decides here.
          </Button>
          <Button className="text-left" onClick={() => choose("open")}>
            <b className="block">Open</b> It is admitted at once. Everybody on the network can watch.
          </Button>
        </div>
        <Trouble problem={save.error} />
      </Card>
    </>
  );
}

function Tablet({ onNext }: { onNext: () => void }) {
  const access = useAccess();
  return (
    <>
      <Headline
        below={
          access.data?.open
            ? "Type the address on the tablet and make an account with the code."
            : "So far only this host reaches this page."
        }
      >
        Use a tablet beside the television?
      </Headline>
      <Card>
        <OpenConsole />
      </Card>
      <Forward onNext={onNext} skip={!access.data?.open}>
        {access.data?.open ? "Go on" : "Not now"}
      </Forward>
    </>
  );
}

function FirstDevice({ onNext }: { onNext: () => void }) {
  const devices = useDevices();
  return (
    <>
      <Headline below="It appears here by itself, as soon as it asks.">
        Open the source or server menu on a television.
      </Headline>
      <Card>
        <div aria-live="polite" className="divide-y divide-line">
          {devices.data?.length === 0 && <p className="text-soft">No device has asked yet.</p>}
          {devices.data?.map((device) => (
            <div key={device.id} className="py-3">
              <p className="mb-2 font-bold">
                {device.label} <StandingMark standing={device.standing} />
              </p>
              <Decide device={device} />
            </div>
          ))}
        </div>
      </Card>
      <Forward onNext={onNext}>Done</Forward>
    </>
  );
}
