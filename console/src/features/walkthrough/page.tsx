// Walking devices through: which of them are confirmed, and one of them step by step.
import { Link, useNavigate, useParams } from "react-router";
import { api, type Device, type WalkthroughSummary } from "../../api/client";
import { useChange, useDevices, useWalkthroughs } from "../../api/queries";
import { Button, Card, Headline, Loading, Trouble } from "../../components/basics";
import { ago, capital, count, inWords } from "../../lib/words";
import { WalkDevice } from "./device";
import { Pieces } from "./pieces";

export function Walkthroughs() {
  const { device } = useParams();
  return device ? <WalkDevice key={device} id={Number(device)} /> : <Overview />;
}

const isGood = (one: WalkthroughSummary) => ["confirmed", "kept-out"].includes(one.verdict);
const isDone = (one: WalkthroughSummary) => isGood(one) && one.due_again.length === 0;

function sentence(all: WalkthroughSummary[]): string {
  if (all.length === 0) return "No device has been walked through.";
  const good = all.filter((one) => isGood(one) && !one.due_again.length).length;
  const left = all.length - good;
  const words = (n: number) => `${inWords(n)} ${n === 1 ? "device is" : "devices are"}`;
  if (left === 0) return `${capital(words(good))} confirmed.`;
  return `${capital(words(good))} confirmed, ${inWords(left)} not yet.`;
}

function Overview() {
  const devices = useDevices();
  const walked = useWalkthroughs();
  if (!devices.data || !walked.data) {
    return <>{devices.error || walked.error ? <Trouble problem={devices.error ?? walked.error} /> : <Loading />}</>;
  }
  const { walkthroughs, test_pieces } = walked.data;
  const decided = devices.data.filter(({ standing }) => standing === "admitted" || standing === "refused");
  const never = decided.filter((device) => !walkthroughs.some((one) => one.device === device.id));
  return (
    <>
      <Headline below="Begin one, take the tablet to the device, and press there what the page says. Each step ticks by itself.">
        {sentence(walkthroughs)}
      </Headline>
      <Pieces pieces={test_pieces} />
      {decided.length === 0 && (
        <Card>
          <p>
            A device is walked through once it is let in or refused.{" "}
            <Link className="text-accent underline" to="/devices">
              Decide on one
            </Link>
            .
          </p>
        </Card>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-2">
        {[
          { title: "Not confirmed yet", these: walkthroughs.filter((one) => !isDone(one)) },
          { title: "Confirmed", these: walkthroughs.filter(isDone) },
        ].map(
          ({ title, these }) =>
            these.length > 0 && (
              <Card key={title} title={title}>
                <ul className="divide-y divide-line">
                  {these.map((one) => (
                    <li key={one.device} className="py-2 first:pt-0 last:pb-0">
                      <Walked one={one} />
                    </li>
                  ))}
                </ul>
              </Card>
            ),
        )}
        {never.length > 0 && (
          <Card title="Not walked through yet">
            <ul className="divide-y divide-line">
              {never.map((device) => (
                <li
                  key={device.id}
                  className="flex flex-wrap items-center justify-between gap-3 py-3 first:pt-0 last:pb-0"
                >
                  <span>
                    <b>{device.label}</b>
                    <span className="block text-sm text-soft">
                      {device.standing}, seen {ago(device.last_seen_ms)}
                    </span>
                  </span>
                  <Begin device={device} />
                </li>
              ))}
            </ul>
          </Card>
        )}
      </div>
    </>
  );
}

function Begin({ device }: { device: Device }) {
  const navigate = useNavigate();
  const begin = useChange<null>(
    () => api.POST("/api/v1/devices/{id}/walkthrough", { params: { path: { id: device.id } } }),
    ["walkthroughs", "devices"],
  );
  return (
    <>
      <Button
        aria-label={`Walk ${device.label} through`}
        disabled={begin.isPending}
        onClick={() => begin.mutate(null, { onSuccess: () => void navigate(`/walkthrough/${device.id}`) })}
      >
        Begin
      </Button>
      <Trouble problem={begin.error} />
    </>
  );
}

function Walked({ one }: { one: WalkthroughSummary }) {
  const due = one.due_again.length > 0;
  const good = isGood(one) && !due;
  const failed = !isGood(one) && one.verdict !== "open";
  return (
    <div className="flex gap-3">
      <span
        aria-hidden
        className={`w-5 shrink-0 text-center leading-[44px] ${good ? "text-accent" : failed ? "text-brick" : "text-amber"}`}
      >
        {good ? "✓" : failed ? "✕" : "○"}
      </span>
      <div className="min-w-0">
        <Link className="inline-flex min-h-11 items-center font-bold hover:underline" to={`/walkthrough/${one.device}`}>
          {one.label}
        </Link>
        <p className="text-sm">{one.verdict_text}</p>
        {due && <p className="text-sm text-amber">Due again: {one.due_again.join(", ")} changed since.</p>}
        <p className="text-sm text-soft">
          {one.done} of {count(one.steps, "step")} ·{" "}
          {one.finished_ms == null ? `running, begun ${ago(one.started_ms)}` : `finished ${ago(one.finished_ms)}`}
        </p>
      </div>
    </div>
  );
}
