// The walkthrough of one device, for a tablet in the hand beside it.
import { Link, useNavigate } from "react-router";
import { api, type Cause, type Question, type Walkthrough, type WalkthroughStep } from "../../api/client";
import { useChange, useWalkthrough } from "../../api/queries";
import { Button, Card, Headline, Loading, Trouble } from "../../components/basics";
import { ago, bytes, clockTime, KINDS } from "../../lib/words";
import { Pieces } from "./pieces";
import { Throughput } from "./throughput";

const nameOf = (kind: string) => KINDS.find(([key]) => key === kind)?.[1] ?? kind;

/** Steps that belong together, with what they are about. */
function groups(steps: WalkthroughStep[]): [string, WalkthroughStep[]][] {
  const kinds = [...new Set(steps.flatMap((step) => (step.kind ? [step.kind] : [])))];
  const own = steps.filter((step) => !step.kind && step.state !== "not-possible-yet");
  const later = steps.filter((step) => step.state === "not-possible-yet");
  const all: [string, WalkthroughStep[]][] = [["The house", own]];
  for (const kind of kinds) all.push([nameOf(kind), steps.filter((step) => step.kind === kind)]);
  if (later.length > 0) all.push(["Sent to it: comes with controlling renderers", later]);
  return all;
}

export function WalkDevice({ id }: { id: number }) {
  const walkthrough = useWalkthrough(id);
  if (!walkthrough.data) {
    if (walkthrough.error?.status === 404) return <NotYet id={id} />;
    return walkthrough.error ? <Trouble problem={walkthrough.error} /> : <Loading />;
  }
  return <Steps now={walkthrough.data} />;
}

const useBegin = (id: number) =>
  useChange<null>(
    () => api.POST("/api/v1/devices/{id}/walkthrough", { params: { path: { id } } }),
    ["walkthroughs", "devices"],
  );

function NotYet({ id }: { id: number }) {
  const begin = useBegin(id);
  return (
    <>
      <Headline below="Begin, take the tablet to the device, and press there what the page says.">
        This device has not been walked through.
      </Headline>
      <Button look="main" disabled={begin.isPending} onClick={() => begin.mutate(null)}>
        Begin
      </Button>
      <Trouble problem={begin.error} />
    </>
  );
}

function Steps({ now }: { now: Walkthrough }) {
  const { summary, steps, remarks, questions, takings } = now;
  const navigate = useNavigate();
  const begin = useBegin(summary.device);
  const finish = useChange<null>(
    () => api.DELETE("/api/v1/devices/{id}/walkthrough", { params: { path: { id: summary.device } } }),
    ["walkthroughs", "devices"],
  );
  const runs = summary.finished_ms == null;
  const next = steps.find((step) => step.state === "open");
  return (
    <>
      <p>
        <Link className="inline-flex min-h-11 items-center text-accent underline" to="/walkthrough">
          All walkthroughs
        </Link>
      </p>
      <Headline
        below={`${summary.done} of ${summary.steps} steps are done${
          runs ? "" : `; finished ${ago(summary.finished_ms ?? 0)}`
        }.`}
      >
        {summary.label}
        <span className="mt-1 block font-sans text-lg">{summary.verdict_text}</span>
      </Headline>
      {summary.due_again.length > 0 && (
        <p className="mb-4 rounded-lg bg-amber-wash px-4 py-3">
          Due again: {summary.due_again.join(", ")} changed since it began.
        </p>
      )}
      {runs && <Pieces pieces={now.test_pieces} />}
      {runs && next && <Next step={next} device={summary.device} />}
      {remarks.map((cause) => (
        <div key={cause.cause} className="mb-4 rounded-lg bg-amber-wash px-4 py-3">
          <Why cause={cause} device={summary.device} />
        </div>
      ))}
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-2">
        {groups(steps).map(([title, these]) => (
          <Card key={title} title={title}>
            <ol className="divide-y divide-line">
              {these.map((step) => (
                <li key={step.step} className="py-2 first:pt-0 last:pb-0">
                  <Step step={step} device={summary.device} isNext={step === next && runs} />
                </li>
              ))}
            </ol>
            <Questions device={summary.device} questions={questions.filter(({ kind }) => nameOf(kind) === title)} />
          </Card>
        ))}
        {takings.some((taking) => taking.need != null && taking.seconds.length > 0) && (
          <Card title="What it took, second by second">
            <div className="space-y-5">
              {takings
                .filter((taking) => taking.need != null && taking.seconds.length > 0)
                .toReversed()
                .slice(0, 4)
                .map((taking) => (
                  <Throughput key={taking.title} taking={taking} />
                ))}
            </div>
          </Card>
        )}
      </div>
      <div className="mt-5 flex flex-wrap gap-3">
        {runs ? (
          <Button
            look={next ? "plain" : "main"}
            disabled={finish.isPending}
            onClick={() => finish.mutate(null, { onSuccess: () => void navigate("/walkthrough") })}
          >
            Finish
          </Button>
        ) : (
          <Button disabled={begin.isPending} onClick={() => begin.mutate(null)}>
            Walk it through again
          </Button>
        )}
        <Link className="inline-flex min-h-11 items-center text-accent underline" to={`/devices/${summary.device}`}>
          The device’s own page
        </Link>
      </div>
      <Trouble problem={finish.error ?? begin.error} />
    </>
  );
}

/** What is to be done now, readable at arm's length. */
function Next({ step, device }: { step: WalkthroughStep; device: number }) {
  return (
    <section aria-label="Now" className="mb-5 rounded-card border-2 border-accent bg-sheet p-4 sm:p-5">
      <p className="text-sm text-soft">
        Next: {step.step}
        {step.kind && `, ${nameOf(step.kind).toLowerCase()}`}
      </p>
      <p className="text-xl text-balance">{step.press}</p>
      {step.cause && (
        <div className="mt-3 rounded-lg bg-amber-wash px-4 py-3">
          <Why cause={step.cause} device={device} />
        </div>
      )}
    </section>
  );
}

const PLACES: Record<string, { to: (device: number) => string; word: string }> = {
  preflight: { to: () => "/preflight", word: "Open the preflight" },
  device: { to: (device) => `/devices/${device}`, word: "Open the device’s page" },
  folders: { to: () => "/folders", word: "Open the folders" },
  settings: { to: () => "/", word: "Open Today" },
};

function Why({ cause, device }: { cause: Cause; device: number }) {
  const place = PLACES[cause.place];
  return (
    <>
      <p className="font-bold">⚠ {cause.seen}</p>
      <p>{cause.remedy}</p>
      {place && (
        <Link className="inline-flex min-h-11 items-center text-accent underline" to={place.to(device)}>
          {place.word}
        </Link>
      )}
    </>
  );
}

function Step({ step, device, isNext }: { step: WalkthroughStep; device: number; isNext: boolean }) {
  const done = step.state === "done";
  return (
    <>
      <details>
        <summary className="flex min-h-11 cursor-pointer items-start gap-3">
          <span
            aria-hidden
            className={`mt-0.5 grid size-6 shrink-0 place-items-center rounded-full border-2 text-sm leading-none font-bold ${
              done ? "border-accent bg-accent text-on-accent" : "border-soft"
            }`}
          >
            {done ? "✓" : ""}
          </span>
          <span className="min-w-0 grow">
            <b>{step.step}</b>
            {!done && <span className="text-soft"> {step.state === "open" ? "not yet" : "not possible yet"}</span>}
            {done && (
              <span className="block text-sm break-words">
                {[step.evidence, step.item].filter(Boolean).join(" · ")}
                {step.given != null && step.expected != null && ` · ${step.given} of ${step.expected} titles`}
              </span>
            )}
          </span>
          {step.at_ms != null && <span className="shrink-0 text-sm text-soft">{clockTime(step.at_ms)}</span>}
        </summary>
        <p className="pl-9 text-sm text-soft">
          {step.proves}
          {step.bytes != null && ` ${bytes(step.bytes)} acknowledged.`}
        </p>
        {!done && step.press && <p className="pl-9 text-sm">{step.press}</p>}
      </details>
      {!done && !isNext && step.cause && (
        <div className="mt-2 ml-9 rounded-lg bg-amber-wash px-4 py-3">
          <Why cause={step.cause} device={device} />
        </div>
      )}
    </>
  );
}

/** What only a person can say, with one touch. */
function Questions({ device, questions }: { device: number; questions: Question[] }) {
  const say = useChange<{ question: string; said?: boolean }>(
    (body) => api.PUT("/api/v1/devices/{id}/walkthrough/answers", { params: { path: { id: device } }, body }),
    ["walkthroughs"],
  );
  if (questions.length === 0) return null;
  return (
    <div className="mt-3 border-t border-line pt-3">
      {questions.map(({ question, asked, said }) => (
        <fieldset key={question} className="flex flex-wrap items-center justify-between gap-3 py-1">
          <legend className="float-left">{asked}</legend>
          <span className="flex gap-2">
            {[true, false].map((answer) => (
              <Button
                key={String(answer)}
                aria-pressed={said === answer}
                className={`min-w-16 ${said === answer ? (answer ? "border-accent bg-accent-wash" : "border-brick bg-brick-wash") : ""}`}
                onClick={() => say.mutate({ question, said: said === answer ? undefined : answer })}
              >
                {answer ? "Yes" : "No"}
              </Button>
            ))}
          </span>
        </fieldset>
      ))}
      <Trouble problem={say.error} />
    </div>
  );
}
