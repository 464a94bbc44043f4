// The proof ladder: the same steps in the same order everywhere.
import { Popover, PopoverButton, PopoverPanel } from "@headlessui/react";
import type { ProofStep } from "../../api/client";
import { bytes, clock } from "../../lib/words";

function Rung({ step }: { step: ProofStep }) {
  const state = step.confirmed ? "confirmed" : "not yet";
  return (
    <Popover className="relative">
      <PopoverButton
        aria-label={`${step.step}: ${state}`}
        className="grid size-11 place-items-center rounded-full"
        title={`${step.step}: ${state}`}
      >
        <span
          className={`grid size-5 place-items-center rounded-full border-2 text-[11px] leading-none font-bold ${
            step.confirmed ? "border-accent bg-accent text-on-accent" : "border-soft bg-sheet"
          }`}
        >
          {step.confirmed ? "✓" : ""}
        </span>
      </PopoverButton>
      <PopoverPanel
        anchor={{ to: "bottom", gap: 4, padding: 12 }}
        className="z-10 w-64 rounded-lg border border-line bg-sheet p-3 text-sm shadow-lg"
      >
        <p className="font-bold">
          {step.step}: {state}
        </p>
        {step.what && <p>{step.what}</p>}
        {step.item && <p>{step.item}</p>}
        {step.bytes != null && <p>{bytes(step.bytes)} acknowledged</p>}
        {step.at_ms != null && <p className="text-soft">{clock(step.at_ms)}</p>}
        <p className="mt-1 text-soft">{step.proves}</p>
      </PopoverPanel>
    </Popover>
  );
}

/** The steps of one device, each with its proof on touch, focus or click. */
export function Ladder({ steps, unsaved }: { steps: ProofStep[]; unsaved?: boolean }) {
  return (
    <>
      <ol className="-mx-3 flex items-center" aria-label="Proof">
        {steps.map((step, n) => (
          <li key={step.step} className="flex items-center">
            {n > 0 && <span aria-hidden className={`-mx-3 h-0.5 w-6 ${step.confirmed ? "bg-accent" : "bg-line"}`} />}
            <Rung step={step} />
          </li>
        ))}
      </ol>
      {unsaved && <p className="text-sm text-amber">not saved yet</p>}
    </>
  );
}

/** Said of a device of which something waits to be saved. */
export function Unsaved() {
  return (
    <p className="my-1 text-sm text-amber">
      ⚠ What is new here is not saved yet, as PostgreSQL takes nothing now. It is saved by itself when that is over.
    </p>
  );
}

export const LADDER_WORDS = "seen → read → opened → listed → started → kept playing → skipped ahead";

/** The furthest step in words. */
export function furthest(steps: ProofStep[]): string {
  const last = steps.findLast((step) => step.confirmed);
  if (!last) return "nothing seen yet";
  const item = last.item ? ` ${last.item}` : "";
  return `${last.step}${item}`;
}
