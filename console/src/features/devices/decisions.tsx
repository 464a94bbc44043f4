// The decisions on a device: when, who, what and why; the last one can be undone.
import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/react";
import { api } from "../../api/client";
import { useChange, useDecisions } from "../../api/queries";
import { Button, Loading, Trouble } from "../../components/basics";
import { LongList } from "../../components/long-list";
import { clock } from "../../lib/words";

export function Decisions({ device }: { device: number }) {
  return (
    <Disclosure as="div" className="mt-3">
      {({ open }) => (
        <>
          <DisclosureButton className="min-h-11 text-accent underline">
            {open ? "Hide" : "Show"} the decisions on it
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
  const decisions = useDecisions(device);
  const undo = useChange<null>(
    () => api.POST("/api/v1/devices/{id}/undo", { params: { path: { id: device } } }),
    ["devices", "house"],
  );
  if (!decisions.data) return decisions.error ? <Trouble problem={decisions.error} /> : <Loading />;
  const last = decisions.data.find((decision) => decision.can_be_undone);
  return (
    <>
      {decisions.data.length === 0 && <p className="text-soft">Nobody decided on it yet.</p>}
      {decisions.data.length > 0 && (
        <LongList
          label="decisions"
          word="decision"
          items={decisions.data}
          keyOf={(decision) => `${decision.at_ms} ${decision.what}`}
          textOf={(decision) => [decision.what, decision.who, decision.why, clock(decision.at_ms)].join(" ")}
          sorts={[{ word: "latest first" }, { word: "oldest first", compare: (a, b) => a.at_ms - b.at_ms }]}
          row={(decision) => (
            <div className="flex flex-wrap items-center justify-between gap-3 text-sm">
              <span>
                {decision.what} by {decision.who}
                {decision.why && `: ${decision.why}`}
                <span className="block text-soft">{clock(decision.at_ms)}</span>
              </span>
              {decision === last && (
                <Button disabled={undo.isPending} onClick={() => undo.mutate(null)}>
                  Undo this
                </Button>
              )}
            </div>
          )}
        />
      )}
      <Trouble problem={undo.error} />
    </>
  );
}
