// Looking inside a thing: its services, their actions, and calling them.
import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/react";
import { useState } from "react";
import { api, type ActionAnswer, type FoundThing, type OfferedAction } from "../../api/client";
import { useActions, useChange, useWatchedState } from "../../api/queries";
import { Button, Loading, Trouble } from "../../components/basics";
import { clockTime } from "../../lib/words";
import { CopyButton } from "../../components/copy-button";
import { Confirm } from "../../components/dialog";

/** Services in plain words, by the last word of their type. */
const WORDS: Record<string, string> = {
  AVTransport: "plays, pauses and stops",
  RenderingControl: "sets volume and mute",
  ConnectionManager: "says which formats it takes or sends",
  ContentDirectory: "lists and searches what it has",
};

const lastWord = (type: string) => type.split(":").at(-2) ?? type;

export function Services({ found }: { found: FoundThing }) {
  if (found.services.length === 0) return null;
  return (
    <section className="mt-4" aria-label="Services">
      <h4 className="font-bold">Services</h4>
      {found.services.map((service, number) => (
        <Disclosure as="div" key={service.type} className="border-b border-line">
          {({ open }) => (
            <>
              <DisclosureButton className="min-h-11 w-full text-left text-accent underline">
                {lastWord(service.type)}
                {WORDS[lastWord(service.type)] && <> ({WORDS[lastWord(service.type)]})</>}
              </DisclosureButton>
              {open && (
                <DisclosurePanel static className="pb-4">
                  <p className="mb-2 text-sm break-all text-soft select-all">{service.type}</p>
                  <Actions found={found.id} number={number} />
                </DisclosurePanel>
              )}
            </>
          )}
        </Disclosure>
      ))}
    </section>
  );
}

function Actions({ found, number }: { found: number; number: number }) {
  const actions = useActions(found, number);
  const [chosen, setChosen] = useState("");
  if (!actions.data) return actions.error ? <Trouble problem={actions.error} /> : <Loading />;
  const action = actions.data.actions.find(({ name }) => name === chosen);
  const evented = actions.data.variables.filter((variable) => variable.evented).map(({ name }) => name);
  return (
    <>
      <label className="block">
        <span className="font-bold">Action</span>
        <select
          className="mt-1 block min-h-11 w-full rounded-lg border border-line bg-paper px-3"
          value={chosen}
          onChange={(event) => setChosen(event.target.value)}
        >
          <option value="">choose one</option>
          {actions.data.actions.map(({ name, only_reads }) => (
            <option key={name} value={name}>
              {name}
              {only_reads ? "" : " (may change something)"}
            </option>
          ))}
        </select>
      </label>
      {evented.length > 0 && <State found={found} number={number} evented={evented} />}
      {action && <Call key={action.name} found={found} number={number} action={action} />}
    </>
  );
}

/** The state variables of a service, as long as somebody watches. */
function State({ found, number, evented }: { found: number; number: number; evented: string[] }) {
  const [watching, setWatching] = useState(false);
  return (
    <section className="mt-3" aria-label="State">
      <p className="text-sm text-soft">Tells of changes of {evented.join(", ")}.</p>
      <Button onClick={() => setWatching(!watching)}>{watching ? "Stop watching" : "Watch its state"}</Button>
      {watching && <WatchedState found={found} number={number} />}
    </section>
  );
}

function WatchedState({ found, number }: { found: number; number: number }) {
  const state = useWatchedState(found, number);
  if (!state.data) return state.error ? <Trouble problem={state.error} /> : <Loading />;
  const { subscription, problem, missed, variables } = state.data;
  return (
    <div role="status" className="mt-2 space-y-2">
      {subscription === "failed" && (
        <p className="text-brick">✕ It cannot be subscribed at: {problem}. It is tried again from time to time.</p>
      )}
      {subscription === "silent" && (
        <p className="text-brick">
          ✕ It grants the subscription, and its events do not arrive. Does a firewall on this computer hold them back?
        </p>
      )}
      {missed > 0 && <p className="text-sm text-soft">Events were missed, {missed} times.</p>}
      {variables.length === 0 && (subscription === "asking" || subscription === "granted") && (
        <p className="text-soft">Subscribed; nothing was told yet.</p>
      )}
      <dl className="grid grid-cols-[auto_1fr_auto] gap-x-4 gap-y-1 text-sm">
        {variables.map(({ name, channel, value, told_ms }) => (
          <div key={`${name} ${channel ?? ""}`} className="contents">
            <dt className="text-soft">
              {name}
              {channel && ` (${channel})`}
            </dt>
            <dd className="break-all select-all">{value || "(empty)"}</dd>
            <dd className="text-soft">{clockTime(told_ms)}</dd>
          </div>
        ))}
      </dl>
    </div>
  );
}

/** What an argument is at the beginning: the first value allowed, or none. */
const first = (action: OfferedAction) =>
  Object.fromEntries(
    action.inputs.map(({ name, allowed, least }) => [
      name,
      allowed?.[0] ?? (least != null ? String(least) : name === "InstanceID" ? "0" : ""),
    ]),
  );

function Call({ found, number, action }: { found: number; number: number; action: OfferedAction }) {
  const [values, setValues] = useState<Record<string, string>>(first(action));
  const [asking, setAsking] = useState(false);
  const [answer, setAnswer] = useState<ActionAnswer | null>(null);
  const call = useChange(async (changes: boolean) => {
    const { data, error } = await api.POST("/api/v1/network/found/{id}/services/{number}/call", {
      params: { path: { id: found, number } },
      body: {
        action: action.name,
        arguments: action.inputs.map(({ name }) => ({ name, value: values[name] ?? "" })),
        changes,
      },
    });
    if (data) setAnswer(data);
    return { error };
  }, []);
  const input = "mt-1 block min-h-11 w-full rounded-lg border border-line bg-paper px-3";
  return (
    <form
      className="mt-3 space-y-3"
      onSubmit={(event) => {
        event.preventDefault();
        if (action.only_reads) call.mutate(false);
        else setAsking(true);
      }}
    >
      {action.inputs.map(({ name, allowed, least, most }) => (
        <label key={name} className="block">
          <span className="font-bold">{name}</span>
          {least != null && most != null && (
            <span className="text-sm text-soft">
              {" "}
              {least} to {most}
            </span>
          )}
          {allowed && allowed.length > 0 ? (
            <select
              className={input}
              value={values[name]}
              onChange={(event) => setValues({ ...values, [name]: event.target.value })}
            >
              {allowed.map((value) => (
                <option key={value}>{value}</option>
              ))}
            </select>
          ) : (
            <input
              className={input}
              value={values[name]}
              onChange={(event) => setValues({ ...values, [name]: event.target.value })}
            />
          )}
        </label>
      ))}
      <Button type="submit" look="main" disabled={call.isPending}>
        {call.isPending ? "Calling…" : `Call ${action.name}`}
      </Button>
      <Trouble problem={call.error} />
      <Confirm
        open={asking}
        title={`Call ${action.name}?`}
        yes="Call it"
        busy={call.isPending}
        problem={null}
        onYes={() => {
          setAsking(false);
          call.mutate(true);
        }}
        onClose={() => setAsking(false)}
      >
        It may change something on that device, such as what plays there or how loud.
      </Confirm>
      {answer && <Answer answer={answer} />}
    </form>
  );
}

function Answer({ answer }: { answer: ActionAnswer }) {
  const fields = (all: ActionAnswer["fields"]) => all.map(({ name, value }) => `${name}: ${value}`).join("\n");
  const text = "rounded bg-paper p-3 text-xs break-all whitespace-pre-wrap select-all";
  return (
    <div role="status" className="space-y-2">
      <p className={answer.fault ? "text-brick" : "text-accent"}>
        {answer.fault ? `✕ Answered ${answer.status} with ${answer.fault}` : "✓ Answered"} in {answer.took_ms} ms
        {answer.cut && ", cut at 1 MiB"}
      </p>
      {answer.outputs.length > 0 && (
        <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 text-sm">
          {answer.outputs.map(({ name, value }) => (
            <div key={name} className="contents">
              <dt className="text-soft">{name}</dt>
              <dd className="break-all select-all">{value || "(empty)"}</dd>
            </div>
          ))}
        </dl>
      )}
      <details>
        <summary className="min-h-11 cursor-pointer text-accent underline">As it was sent and received</summary>
        <pre className={text}>{`POST ${answer.url}\n${fields(answer.fields)}\n\n${answer.request}`}</pre>
        <pre className={`mt-2 ${text}`}>{`${answer.status}\n${fields(answer.answer_fields)}\n\n${answer.answer}`}</pre>
      </details>
      <CopyButton text={answer.curl}>Copy as a line for a shell</CopyButton>
    </div>
  );
}
