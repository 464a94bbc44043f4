// What the household keeps on paper.
import { Link } from "react-router";
import { address, api, type HandoverDevice } from "../../api/client";
import { useChange, useHandover } from "../../api/queries";
import { Button, Card, Headline, Loading, Trouble } from "../../components/basics";
import { capital, clock, inWords, moment } from "../../lib/words";

const isGood = (device: HandoverDevice) =>
  (device.verdict === "confirmed" || device.verdict === "kept-out") && device.due_again.length === 0;

function sentence(devices: HandoverDevice[]): string {
  const open = devices.filter((device) => !isGood(device)).length;
  if (devices.length === 0) return "No device was let in or refused yet.";
  if (open === 0) return "Every device is confirmed: ready to be handed over.";
  return `${capital(inWords(open))} ${open === 1 ? "device is" : "devices are"} not confirmed yet.`;
}

export function Handover() {
  const handover = useHandover();
  const done = useChange<null>(() => api.POST("/api/v1/handover"), ["house"]);
  if (!handover.data) return handover.error ? <Trouble problem={handover.error} /> : <Loading />;
  const { rule, devices, changes, last_ms } = handover.data;
  return (
    <>
      <Headline below={last_ms == null ? "Never handed over yet." : `Handed over last on ${moment(last_ms)}.`}>
        {sentence(devices)}
      </Headline>
      <div className="mb-5 flex flex-wrap items-center gap-3">
        <a
          className="inline-flex min-h-11 items-center rounded-lg border border-accent bg-accent px-4 py-2 text-on-accent"
          href={address("/handover/page")}
          target="_blank"
          rel="noreferrer"
        >
          Open the paper to print
        </a>
        <Button disabled={done.isPending} onClick={() => done.mutate(null)}>
          It is handed over
        </Button>
        <span className="text-sm text-soft">Then the next one says what changed since.</span>
      </div>
      <Trouble problem={done.error} />
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-2">
        <Card title="The household’s rule">
          <ol className="list-decimal space-y-2 pl-5">
            {rule.map((line) => (
              <li key={line} className="break-words">
                {line}
              </li>
            ))}
          </ol>
        </Card>
        {last_ms != null && (
          <Card title={`Changed since ${clock(last_ms)}`}>
            {changes.length === 0 && <p className="text-soft">Nothing.</p>}
            <ul className="list-disc space-y-1 pl-5">
              {changes.map((change) => (
                <li key={change} className="break-words">
                  {change}
                </li>
              ))}
            </ul>
          </Card>
        )}
        {devices.length > 0 && (
          <Card title="Devices">
            <ul className="divide-y divide-line">
              {devices.map((device) => (
                <li key={device.device} className="flex gap-3 py-2 first:pt-0 last:pb-0">
                  <span
                    aria-hidden
                    className={`w-5 shrink-0 leading-[44px] ${isGood(device) ? "text-accent" : "text-amber"}`}
                  >
                    {isGood(device) ? "✓" : "○"}
                  </span>
                  <div className="min-w-0">
                    <Link
                      className="inline-flex min-h-11 items-center font-bold hover:underline"
                      to={`/walkthrough/${device.device}`}
                    >
                      {device.label}
                    </Link>
                    <p className="text-sm">
                      {device.standing}, may see {device.may_see}
                    </p>
                    <p className="text-sm text-soft">{device.verdict_text}</p>
                    {device.due_again.length > 0 && (
                      <p className="text-sm text-amber">Due again: {device.due_again.join(", ")} changed since.</p>
                    )}
                  </div>
                </li>
              ))}
            </ul>
          </Card>
        )}
      </div>
    </>
  );
}
