// What stands in the way of devices finding, listing and playing.
import { api, type PreflightCheck } from "../../api/client";
import { useChange, usePreflight } from "../../api/queries";
import { Button, Card, Headline, Loading, Trouble } from "../../components/basics";
import { CopyButton } from "../../components/copy-button";
import { ago } from "../../lib/words";

const SENTENCES: Record<string, string> = {
  "stops you": "Something stops devices.",
  attention: "Devices can find, list and play; something needs attention.",
  unknown: "Nothing is wrong, as far as it could be looked at.",
  ok: "Everything is as it should be.",
};

/** Outcomes with their mark and colour, the worst first. */
const OUTCOMES = [
  { outcome: "stops you", mark: "✕", tone: "text-brick", title: "Stops you" },
  { outcome: "attention", mark: "⚠", tone: "text-amber", title: "Needs attention" },
  { outcome: "unknown", mark: "?", tone: "text-soft", title: "Could not be looked at" },
  { outcome: "ok", mark: "✓", tone: "text-accent", title: "As it should be" },
];

export function Preflight() {
  const preflight = usePreflight();
  const look = useChange<null>(
    () => api.POST("/api/v1/preflight", { body: "", headers: { "Content-Type": "text/plain" } }),
    ["house"],
  );
  if (!preflight.data) return preflight.error ? <Trouble problem={preflight.error} /> : <Loading />;
  const { worst, checks, looked_ms } = preflight.data;
  return (
    <>
      <Headline
        below={looked_ms == null ? "Looking at this computer and its network…" : `Looked at ${ago(looked_ms)}.`}
      >
        {looked_ms == null ? "Just a moment." : SENTENCES[worst]}
      </Headline>
      <div className="mb-4">
        <Button disabled={look.isPending} onClick={() => look.mutate(null)}>
          {look.isPending ? "Looking…" : "Look again"}
        </Button>
        <Trouble problem={look.error} />
      </div>
      <Checks checks={checks} />
    </>
  );
}

/** Checks by their outcome, the worst first. */
export function Checks({ checks }: { checks: PreflightCheck[] }) {
  return (
    <div className="space-y-5">
      {OUTCOMES.map(({ outcome, mark, tone, title }) => {
        const these = checks.filter((check) => check.outcome === outcome);
        return (
          these.length > 0 && (
            <Card key={outcome} title={title}>
              <ul className="divide-y divide-line">
                {these.map((check) => (
                  <li key={check.id} className="py-3 first:pt-0 last:pb-0">
                    <Check check={check} mark={mark} tone={tone} />
                  </li>
                ))}
              </ul>
            </Card>
          )
        );
      })}
    </div>
  );
}

function Check({ check, mark, tone }: { check: PreflightCheck; mark: string; tone: string }) {
  const { title, measured, why, remedy, command, outcome } = check;
  if (outcome === "ok") {
    return (
      <details>
        <summary className="flex min-h-11 cursor-pointer gap-3">
          <span className={`w-5 shrink-0 text-center ${tone}`} aria-hidden>
            {mark}
          </span>
          <span className="min-w-0 grow break-words">
            <b>{title}</b>
            <span className="block">{measured}</span>
          </span>
          <span className="shrink-0 text-sm text-accent underline">why</span>
        </summary>
        <p className="pl-8 text-sm text-soft">{why}</p>
      </details>
    );
  }
  return (
    <div className="flex gap-3">
      <span className={`w-5 shrink-0 text-center ${tone}`} aria-hidden>
        {mark}
      </span>
      <div className="min-w-0 grow">
        <p>
          <b>{title}</b>
          <span className="block break-words">{measured}</span>
        </p>
        <p className="text-sm text-soft">{why}</p>
        {remedy && <p className="mt-1">{remedy}</p>}
        {command && (
          <div className="mt-1 flex flex-wrap items-start gap-3">
            <code className="min-w-0 grow rounded bg-paper px-3 py-2 text-sm break-words whitespace-pre-wrap select-all">
              {command}
            </code>
            <CopyButton text={command} />
          </div>
        )}
      </div>
    </div>
  );
}
