// Switching the house off and on.
import { useState } from "react";
import { api, type House, type OffProof } from "../../api/client";
import { useChange } from "../../api/queries";
import { Button, Field, Trouble } from "../../components/basics";
import { Dialog } from "../../components/dialog";
import { count, moment } from "../../lib/words";

/** A day as the browser's field gives it (2027-01-07), as the moment at which it begins here. */
const beginOf = (day: string) => new Date(`${day}T00:00`).getTime();

/** Tomorrow, as the browser's field has it. */
function tomorrow(): string {
  const day = new Date();
  day.setDate(day.getDate() + 1);
  const two = (n: number) => String(n).padStart(2, "0");
  return `${day.getFullYear()}-${two(day.getMonth() + 1)}-${two(day.getDate())}`;
}

export function SwitchOff({ house }: { house: House }) {
  const [asking, setAsking] = useState(false);
  const [until, setUntil] = useState("");
  const off = useChange(
    () => api.PUT("/api/v1/house/off", { body: { until_ms: until === "" ? null : beginOf(until) } }),
    ["house"],
  );
  return (
    <>
      <Button onClick={() => setAsking(true)}>Switch the house off…</Button>
      <Dialog open={asking} title={`Switch ${house.name} off?`} onClose={() => setAsking(false)}>
        <p className="mt-2 mb-4">
          Devices do not find it any more, and what plays ends at once. Folders, decisions and proof are kept, and you
          can switch it on again at any time.
        </p>
        <Field
          label="On again by itself on"
          hint="Leave it empty to switch it on yourself."
          type="date"
          min={tomorrow()}
          value={until}
          onChange={(e) => setUntil(e.target.value)}
        />
        <Trouble problem={off.error} />
        <div className="mt-4 flex gap-3">
          <Button
            look="danger"
            disabled={off.isPending}
            onClick={() => off.mutate(undefined, { onSuccess: () => setAsking(false) })}
          >
            Switch it off
          </Button>
          <Button onClick={() => setAsking(false)}>Cancel</Button>
        </div>
      </Dialog>
    </>
  );
}

/** Says in large letters that the house is off. */
export function IsOff({ house }: { house: House }) {
  const on = useChange(() => api.DELETE("/api/v1/house/off"), ["house"]);
  if (!house.off) return null;
  return (
    <section className="mb-6 rounded-card border-2 border-amber bg-amber-wash p-5 sm:p-7" aria-label="The house is off">
      <h1 className="font-serif text-4xl font-semibold break-words sm:text-6xl">{house.name} is OFF.</h1>
      <p className="mt-3">
        Since {moment(house.off.since_ms)}
        {house.off.until_ms ? `; on again by itself on ${moment(house.off.until_ms)}` : ""}. Devices do not find it and
        nothing plays. Folders, decisions and proof are kept.
      </p>
      {house.off.proof && <Silence proof={house.off.proof} />}
      <Button look="main" className="mt-4" disabled={on.isPending} onClick={() => on.mutate(undefined)}>
        Switch it on
      </Button>
      <Trouble problem={on.error} />
    </section>
  );
}

/** That it is off was tried from outside. */
function Silence({ proof }: { proof: OffProof }) {
  return (
    <p className={`mt-2 ${proof.silent ? "" : "text-brick"}`}>
      {proof.silent ? "✓" : "✕"} Byebye was said {count(proof.byebyes, "time")}. A search for it on{" "}
      {count(proof.searched, "interface")}{" "}
      {proof.answered === 0 && proof.reached === 0
        ? "was answered by nobody, and its port is closed."
        : `was answered on ${proof.answered}, and its port takes connections at ${proof.reached}.`}
    </p>
  );
}
