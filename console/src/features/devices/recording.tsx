// Recording what a device and this house say to each other, and reading it.
import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/react";
import { useState } from "react";
import { address, api, type ConversationEntry } from "../../api/client";
import { useChange, useConversation, useRecordings } from "../../api/queries";
import { Button, Loading, Trouble } from "../../components/basics";
import { Confirm } from "../../components/dialog";
import { LongList } from "../../components/long-list";
import { bytes, clock, clockTime } from "../../lib/words";

const LENGTHS = [5, 10, 30, 120];

export function Recordings({ device }: { device: number }) {
  return (
    <Disclosure as="div" className="mt-3">
      {({ open }) => (
        <>
          <DisclosureButton className="min-h-11 text-accent underline">
            {open ? "Hide" : "Show"} recorded conversations
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
  const recordings = useRecordings(device);
  const [minutes, setMinutes] = useState(10);
  const [shown, setShown] = useState<string | null>(null);
  const [removing, setRemoving] = useState<string | null>(null);
  const path = { id: device };
  const begin = useChange<null>(
    () => api.POST("/api/v1/devices/{id}/recordings", { params: { path }, body: { minutes } }),
    ["devices"],
  );
  const end = useChange<null>(() => api.DELETE("/api/v1/devices/{id}/recording", { params: { path } }), ["devices"]);
  const remove = useChange(
    (name: string) => api.DELETE("/api/v1/devices/{id}/recordings/{name}", { params: { path: { ...path, name } } }),
    ["devices"],
  );
  if (!recordings.data) return recordings.error ? <Trouble problem={recordings.error} /> : <Loading />;
  const running = recordings.data.find((recording) => recording.until_ms != null);
  return (
    <>
      <p className="mb-2 text-sm text-soft">
        Datagrams, requests and answers are kept in a file, without the media themselves. Whoever helps you can read it.
      </p>
      {running ? (
        <p className="flex flex-wrap items-center gap-3">
          <span className="text-accent">● Recording until {clock(running.until_ms ?? 0)}</span>
          <Button disabled={end.isPending} onClick={() => end.mutate(null)}>
            Stop now
          </Button>
        </p>
      ) : (
        <form
          className="flex flex-wrap items-end gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            begin.mutate(null);
          }}
        >
          <label>
            <span className="font-bold">For</span>
            <select
              className="mt-1 block min-h-11 rounded-lg border border-line bg-paper px-3"
              value={minutes}
              onChange={(event) => setMinutes(Number(event.target.value))}
            >
              {LENGTHS.map((length) => (
                <option key={length} value={length}>
                  {length} minutes
                </option>
              ))}
            </select>
          </label>
          <Button type="submit" disabled={begin.isPending}>
            Record its conversation
          </Button>
        </form>
      )}
      <Trouble problem={begin.error ?? end.error} />
      {recordings.data.length > 0 && (
        <ul className="mt-3 divide-y divide-line border-y border-line text-sm">
          {recordings.data.map((recording) => (
            <li key={recording.name} className="py-2">
              <div className="flex flex-wrap items-center gap-3">
                <span className="min-w-0 grow">
                  {clock(recording.from_ms)} · {bytes(recording.bytes)}
                </span>
                <Button onClick={() => setShown(shown === recording.name ? null : recording.name)}>
                  {shown === recording.name ? "Close" : "Read"}
                </Button>
                <a
                  className="inline-flex min-h-11 items-center text-accent underline"
                  href={address(`/devices/${device}/recordings/${recording.name}/file`)}
                  download
                >
                  Save as a file
                </a>
                <Button look="danger" onClick={() => setRemoving(recording.name)}>
                  Remove
                </Button>
              </div>
              {shown === recording.name && <Conversation device={device} name={recording.name} />}
            </li>
          ))}
        </ul>
      )}
      <Confirm
        open={removing !== null}
        title="Remove this recording?"
        yes="Remove it"
        busy={remove.isPending}
        problem={remove.error}
        onYes={() => removing && remove.mutate(removing, { onSuccess: () => setRemoving(null) })}
        onClose={() => setRemoving(null)}
      >
        It cannot be brought back.
      </Confirm>
    </>
  );
}

function Conversation({ device, name }: { device: number; name: string }) {
  const pages = useConversation(device, name);
  if (!pages.data) return pages.error ? <Trouble problem={pages.error} /> : <Loading />;
  const entries = pages.data.pages.flatMap((page) => page.entries);
  if (entries.length === 0) return <p className="mt-2 text-soft">Nothing was said yet.</p>;
  return (
    <div className="mt-3">
      <LongList
        label="conversation"
        word="entry"
        many="entries"
        items={entries}
        keyOf={(entry) => String(entry.number)}
        textOf={(entry) => `${entry.said} ${entry.answered ?? ""}`}
        sorts={[{ word: "time" }]}
        row={(entry) => <Entry entry={entry} />}
      />
      {pages.hasNextPage && (
        <Button disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          Read on
        </Button>
      )}
    </div>
  );
}

function Entry({ entry }: { entry: ConversationEntry }) {
  const text = "mt-1 max-h-80 overflow-auto rounded bg-paper p-3 text-xs break-all whitespace-pre-wrap select-all";
  return (
    <details>
      <summary className="min-h-11 cursor-pointer">
        <span aria-label={entry.by_device ? "The device" : "This house"}>{entry.by_device ? "→" : "←"}</span>{" "}
        <span className={entry.failed ? "text-brick" : ""}>
          {entry.failed && "✕ "}
          {entry.said}
        </span>
        <span className="block pl-5 text-soft">
          {[entry.at_ms == null ? null : clockTime(entry.at_ms), entry.answered].filter(Boolean).join(" · ")}
        </span>
      </summary>
      <pre className={text}>{entry.raw}</pre>
      {entry.raw_answer && <pre className={text}>{entry.raw_answer}</pre>}
    </details>
  );
}
