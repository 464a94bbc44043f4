// The service's own configuration: where each value comes from, changing it, and the restart.
import { useId, useState } from "react";
import { api, type ConfigValue } from "../../api/client";
import { useChange, useConfig, useStatus } from "../../api/queries";
import { Button, Card, Loading, Trouble } from "../../components/basics";
import { Confirm } from "../../components/dialog";
import { capital, count } from "../../lib/words";

const SOURCES: Record<string, string> = {
  flag: "given when the service was started",
  environment: "from the environment",
  console: "changed here",
  file: "from the configuration file",
  default: "the default",
};

export function Service() {
  const config = useConfig();
  return (
    <Card id="service" title="Service">
      <p className="text-sm text-soft">
        What the service starts with. A change is checked before it is taken; the configuration file stays as it is.
      </p>
      {config.isPending && <Loading />}
      <Trouble problem={config.error} />
      {config.data && (
        <>
          <Restart values={config.data} />
          <ul className="mt-2 divide-y divide-line">
            {config.data.map((value) => (
              <Row key={`${value.name} ${value.next ?? value.value}`} value={value} />
            ))}
          </ul>
        </>
      )}
    </Card>
  );
}

/** One setting. What was given to this start, or is for whoever is on the host, is shown alone. */
function Row({ value }: { value: ConfigValue }) {
  const id = useId();
  const known = value.next ?? value.value;
  const [typed, setTyped] = useState(known);
  const set = useChange(
    (value_: string) =>
      api.PUT("/api/v1/config/{name}", { params: { path: { name: value.name } }, body: { value: value_ } }),
    ["house"],
  );
  const reset = useChange(
    () => api.DELETE("/api/v1/config/{name}", { params: { path: { name: value.name } } }),
    ["house"],
  );
  const fixed = value.takes === "on-the-host" || value.source === "flag" || value.source === "environment";
  const look = "min-h-11 w-full rounded-lg border border-line bg-paper px-3";
  return (
    <li className="py-3">
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          set.mutate(typed);
        }}
      >
        <div className="min-w-0 grow basis-60">
          <label htmlFor={id} className="font-bold">
            {capital(value.about)}
          </label>
          {fixed ? (
            <output id={id} className="block break-all">
              {value.value || "not set"}
            </output>
          ) : value.form === "words" ? (
            <select id={id} className={look} value={typed} onChange={(event) => setTyped(event.target.value)}>
              {value.words?.map((word) => (
                <option key={word}>{word}</option>
              ))}
            </select>
          ) : (
            <input
              id={id}
              className={look}
              type={value.form === "number" ? "number" : "text"}
              min={value.least ?? undefined}
              max={value.most ?? undefined}
              maxLength={1000}
              required={value.form === "number"}
              value={typed}
              onChange={(event) => setTyped(event.target.value)}
            />
          )}
        </div>
        {!fixed && (
          <Button type="submit" disabled={typed === known || set.isPending} aria-label={`Set ${value.name}`}>
            Set
          </Button>
        )}
        {!fixed && value.source === "console" && (
          <Button
            onClick={() => reset.mutate(undefined)}
            disabled={reset.isPending}
            aria-label={`Take back the change of ${value.name}`}
          >
            Take back
          </Button>
        )}
      </form>
      <p className="mt-1 text-sm break-words text-soft">
        <code>{value.name}</code>, {SOURCES[value.source] ?? value.source}
        {value.takes === "on-the-host" && "; changed on the host alone"}
      </p>
      {value.next != null && (
        <p role="status" className="text-sm text-amber">
          Until the service starts again it is {value.value || "not set"}.
        </p>
      )}
      {value.problem && <p className="text-sm text-brick">✕ {value.problem}</p>}
      <Trouble problem={set.error ?? reset.error} />
    </li>
  );
}

/** Starting the service again, once something waits for that. */
function Restart({ values }: { values: ConfigValue[] }) {
  const status = useStatus();
  const [asking, setAsking] = useState(false);
  const [begun, setBegun] = useState<number | null>(null);
  const restart = useChange(() => api.POST("/api/v1/restart"), []);
  const waiting = values.filter((value) => value.next != null);
  const moved = waiting.find((value) => value.name === "console_port")?.next;
  const started = status.data?.started_ms;
  const streams = status.data?.streams ?? 0;
  const done = begun != null && started != null && started !== begun;
  return (
    <div className="mt-3">
      <Button look={waiting.length > 0 ? "main" : "plain"} onClick={() => setAsking(true)}>
        Restart the service
      </Button>
      <p role="status" className="mt-2 text-sm">
        {begun != null && !done
          ? "The service starts again …"
          : waiting.length > 0
            ? `${count(waiting.length, "change")} ${waiting.length === 1 ? "waits" : "wait"} for a restart.`
            : done
              ? "The service is started again."
              : ""}
      </p>
      <Confirm
        open={asking}
        title="Restart the service?"
        yes="Restart"
        busy={restart.isPending}
        problem={restart.error}
        onYes={() =>
          restart.mutate(undefined, {
            onSuccess: () => {
              setAsking(false);
              setBegun(started ?? 0);
              // The console is elsewhere then; this page cannot follow before it is there.
              if (moved && window.location.hostname === "127.0.0.1") {
                setTimeout(() => window.location.replace(`http://127.0.0.1:${moved}/settings`), 4000);
              }
            },
          })
        }
        onClose={() => setAsking(false)}
      >
        It takes a few seconds. {streams > 0 ? `${capital(count(streams, "stream"))} now, and will break off.` : ""}
        {moved ? ` The console will be at port ${moved}.` : ""}
      </Confirm>
    </div>
  );
}
