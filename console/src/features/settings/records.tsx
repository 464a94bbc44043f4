// The records as files: saved each night, checked, fetched, and restored.
import { useRef, useState } from "react";
import { address, api, takeInRecords, type Problem, type SavedRecords } from "../../api/client";
import { useChange, useRecords } from "../../api/queries";
import { Button, Card, Loading, Trouble } from "../../components/basics";
import { Confirm } from "../../components/dialog";
import { bytes, count, moment } from "../../lib/words";

const BECAUSE: Record<string, string> = {
  nightly: "by night",
  asked: "when somebody asked",
  "before-restore": "before others were restored",
  "before-upgrade": "before an upgrade",
};

type Holds = SavedRecords["holds"];

const holds = (all: Holds) =>
  `${count(all.folders, "folder")} with ${count(all.files, "file")}, ${count(all.devices, "device")}, ${count(all.accounts, "account")}`;

export function Records() {
  const records = useRecords();
  const [restoring, setRestoring] = useState<SavedRecords | null>(null);
  const [begun, setBegun] = useState(false);
  const [problem, setProblem] = useState<Problem | null>(null);
  const [reading, setReading] = useState(false);
  const file = useRef<HTMLInputElement>(null);
  const save = useChange(() => api.POST("/api/v1/records"), ["records"]);
  const restore = useChange(
    (name: string) => api.POST("/api/v1/records/{name}/restore", { params: { path: { name } } }),
    [],
  );
  const takeIn = async (chosen: File) => {
    setReading(true);
    setProblem(null);
    const { data, error } = await takeInRecords(chosen);
    setReading(false);
    if (data) setRestoring(data);
    else setProblem(error);
  };
  const done = records.data?.restored;
  return (
    <Card id="records" title="Records">
      <p className="text-sm text-soft">
        Everything that was decided, proven and kept is saved as one file each night, without media. Seven are kept on
        the host. Fetch one now and then and keep it elsewhere, closed to others: it holds the accounts.
      </p>
      <div className="mt-3 flex flex-wrap gap-3">
        <Button onClick={() => save.mutate(undefined)} disabled={save.isPending || records.data?.doing != null}>
          {save.isPending ? "Saving …" : "Save the records now"}
        </Button>
        <Button onClick={() => file.current?.click()} disabled={reading}>
          {reading ? "Reading the file …" : "Restore from a file"}
        </Button>
        <input
          ref={file}
          type="file"
          accept=".tar"
          className="hidden"
          aria-label="File of saved records"
          onChange={(event) => {
            const chosen = event.target.files?.[0];
            event.target.value = "";
            if (chosen) void takeIn(chosen);
          }}
        />
      </div>
      <Trouble problem={save.error ?? problem ?? records.error} />
      {records.isPending && <Loading />}
      {records.data?.problem && <p className="mt-2 text-brick">✕ The last save failed: {records.data.problem}</p>}
      {begun && (
        <p role="status" className="mt-2">
          The records are restored, and the service starts again. All logins end: sign in with an account of the records
          that were restored ({restore.data?.accounts.join(", ") || "they have none yet"}). Folders that are elsewhere
          now are asked for under Folders.
        </p>
      )}
      {done?.problem && (
        <p className="mt-2 text-brick">
          ✕ {done.name} was not restored on {moment(done.at_ms)}, and all is as before: {done.problem}
        </p>
      )}
      {records.data?.saved.length === 0 && <p className="mt-3">Nothing is saved yet.</p>}
      <ul className="mt-2 divide-y divide-line">
        {records.data?.saved.map((saved) => (
          <Saved key={saved.name} saved={saved} onRestore={() => setRestoring(saved)} />
        ))}
      </ul>
      {restoring && records.data && (
        <Confirm
          open
          title={`Restore what was saved on ${moment(restoring.made_ms)}?`}
          yes="Restore"
          busy={restore.isPending}
          problem={restore.error}
          onYes={() =>
            restore.mutate(restoring.name, {
              onSuccess: () => {
                setRestoring(null);
                setBegun(true);
              },
            })
          }
          onClose={() => setRestoring(null)}
        >
          Here are {holds(records.data.now)}. They give way to those of {restoring.house}: {holds(restoring.holds)}.
          What is here is saved before. Accounts are those that were saved; who is signed in now signs in again.
        </Confirm>
      )}
    </Card>
  );
}

function Saved({ saved, onRestore }: { saved: SavedRecords; onRestore: () => void }) {
  const check = useChange(
    () => api.POST("/api/v1/records/{name}/check", { params: { path: { name: saved.name } } }),
    ["records"],
  );
  const remove = useChange(
    () => api.DELETE("/api/v1/records/{name}", { params: { path: { name: saved.name } } }),
    ["records"],
  );
  const [asking, setAsking] = useState(false);
  const when = moment(saved.made_ms);
  return (
    <li className="py-3">
      <p>
        <b>{when}</b>, {BECAUSE[saved.because] ?? saved.because}, {bytes(saved.bytes)}
      </p>
      <p className="text-sm text-soft">
        {saved.house}: {holds(saved.holds)}
      </p>
      {saved.checked_ms != null && !saved.problem && (
        <p role="status" className="text-sm text-accent">
          ✓ It can be restored: tried on {moment(saved.checked_ms)}.
        </p>
      )}
      {check.data && (
        <p className="text-sm text-soft">
          {check.data.accounts.length > 0 ? `Its accounts: ${check.data.accounts.join(", ")}` : "It brings no account."}
        </p>
      )}
      {saved.problem && <p className="text-sm text-brick">✕ {saved.problem}</p>}
      <div className="mt-2 flex flex-wrap gap-3">
        <Button onClick={() => check.mutate(undefined)} disabled={check.isPending} aria-label={`Check ${when}`}>
          {check.isPending ? "Checking …" : "Check"}
        </Button>
        <a
          href={address(`/records/${saved.name}/file`)}
          download
          aria-label={`Fetch ${when}`}
          className="inline-flex min-h-11 items-center rounded-lg border border-line px-4 py-2"
        >
          Fetch
        </a>
        <Button onClick={onRestore} aria-label={`Restore ${when}`}>
          Restore
        </Button>
        <Button look="danger" onClick={() => setAsking(true)} aria-label={`Remove ${when}`}>
          Remove
        </Button>
      </div>
      <Trouble problem={check.error} />
      <Confirm
        open={asking}
        title="Remove these saved records?"
        yes="Remove"
        busy={remove.isPending}
        problem={remove.error}
        onYes={() => remove.mutate(undefined, { onSuccess: () => setAsking(false) })}
        onClose={() => setAsking(false)}
      >
        Those of {when} cannot be restored any more. The house goes on as it is.
      </Confirm>
    </li>
  );
}
