// Published folders, their scans, and what was left out.
import { useState } from "react";
import { api, type Folder, type Scan } from "../../api/client";
import { useChange, useFolders, useLeftOut, useScans } from "../../api/queries";
import { Button, Card, Field, Headline, Loading, Trouble } from "../../components/basics";
import { Confirm } from "../../components/dialog";
import { Moved } from "./moved";
import { Picker } from "./picker";
import { ago, capital, count, inWords } from "../../lib/words";

const total = (folder: Folder) => folder.items.video + folder.items.music + folder.items.picture;

function sentence(folders: Folder[]): string {
  if (folders.length === 0) return "Nothing is published yet.";
  const scanning = folders.filter((f) => f.scan?.state === "running");
  const items = folders.reduce((sum, f) => sum + total(f), 0);
  const shared = `${capital(inWords(folders.length))} ${folders.length === 1 ? "folder is" : "folders are"} published, with ${count(items, "item")}`;
  return scanning.length > 0 ? `${shared} so far.` : `${shared}.`;
}

export function Folders() {
  const folders = useFolders();
  const [adding, setAdding] = useState(false);
  if (!folders.data) return folders.error ? <Trouble problem={folders.error} /> : <Loading />;
  const picking = adding || folders.data.length === 0;
  return (
    <>
      <Headline below="Files are published where they are. They are never moved, copied or changed.">
        {sentence(folders.data)}
      </Headline>
      <div className="space-y-4">
        {picking ? (
          <Card title={folders.data.length === 0 ? "Choose the first folder" : "Publish another folder"}>
            <Picker
              onDone={() => setAdding(false)}
              onCancel={folders.data.length > 0 ? () => setAdding(false) : undefined}
            />
          </Card>
        ) : (
          <Button look="main" onClick={() => setAdding(true)}>
            Publish a folder
          </Button>
        )}
        {folders.data.map((folder) => (
          <FolderCard key={folder.id} folder={folder} />
        ))}
      </div>
    </>
  );
}

function FolderCard({ folder }: { folder: Folder }) {
  const rescan = useChange(
    () => api.POST("/api/v1/folders/{id}/rescan", { params: { path: { id: folder.id } } }),
    ["folders"],
  );
  const stop = useChange(
    () => api.DELETE("/api/v1/folders/{id}/scan", { params: { path: { id: folder.id } } }),
    ["folders"],
  );
  const [removing, setRemoving] = useState(false);
  const running = folder.scan?.state === "running";
  const counts = [
    folder.items.video > 0 && `Films ${folder.items.video.toLocaleString("en")}`,
    folder.items.music > 0 && `Music ${folder.items.music.toLocaleString("en")}`,
    folder.items.picture > 0 && `Pictures ${folder.items.picture.toLocaleString("en")}`,
  ].filter(Boolean);
  return (
    <Card>
      <div className="flex flex-wrap items-start justify-between gap-3">
        <div className="min-w-0">
          <h2 className="text-lg font-bold">{folder.label}</h2>
          <p className="text-sm break-all text-soft">{folder.path}</p>
          <p className="mt-1">
            {counts.join(" · ") || "no items"}
            {folder.scanned_ms != null && !running && (
              <span className="text-soft"> · scanned {ago(folder.scanned_ms)}</span>
            )}
          </p>
          {folder.away_ms != null ? (
            <p role="status" className="mt-1 text-amber">
              Away since {ago(folder.away_ms)}: the drive or share is not there. Its items are hidden and come back with
              it.
            </p>
          ) : (
            <p className="mt-1 text-sm text-soft">The next scan comes {folder.next_scan}.</p>
          )}
        </div>
        <div className="flex flex-wrap gap-3">
          {folder.away_ms != null && <Moved folder={folder} />}
          {folder.away_ms != null && <AsItIs folder={folder} />}
          {running ? (
            <Button onClick={() => stop.mutate(undefined)} disabled={stop.isPending}>
              Stop the scan
            </Button>
          ) : (
            <Button onClick={() => rescan.mutate(undefined)} disabled={rescan.isPending}>
              {folder.scan?.state === "failed" ? "Resume the scan" : "Scan again"}
            </Button>
          )}
          <Button look="danger" onClick={() => setRemoving(true)}>
            Stop publishing
          </Button>
        </div>
      </div>
      {folder.scan && <Progress scan={folder.scan} />}
      <More folder={folder} />
      <Trouble problem={rescan.error ?? stop.error} />
      <Remove folder={folder} open={removing} onClose={() => setRemoving(false)} />
    </Card>
  );
}

/** For a drive that a person took away for good, or replaced: without it, its items would stay hidden for ever. */
function AsItIs({ folder }: { folder: Folder }) {
  const [asking, setAsking] = useState(false);
  const take = useChange(
    () => api.POST("/api/v1/folders/{id}/rescan", { params: { path: { id: folder.id } }, body: { as_it_is: true } }),
    ["folders", "catalogue"],
  );
  return (
    <>
      <Button onClick={() => setAsking(true)}>Take the drives as they are</Button>
      <Confirm
        open={asking}
        title={`Are the drives of ${folder.label} as they are meant to be?`}
        yes="Yes, scan them"
        busy={take.isPending}
        problem={take.error}
        onYes={() => take.mutate(undefined, { onSuccess: () => setAsking(false) })}
        onClose={() => setAsking(false)}
      >
        What is on them now is published. What was on the drives before counts as deleted, and comes back as new if they
        do. No file is touched.
      </Confirm>
    </>
  );
}

function Progress({ scan }: { scan: Scan }) {
  if (scan.state === "failed") {
    return (
      <p role="alert" className="mt-3 rounded-lg bg-brick-wash px-4 py-3 text-brick">
        ✕ The last scan ended early: {scan.problem}. What was read before stays published.
      </p>
    );
  }
  const all = scan.done + scan.to_do;
  const left =
    scan.remaining_ms != null
      ? ` · about ${count(Math.max(1, Math.ceil(scan.remaining_ms / 1000)), "second")} left`
      : "";
  return (
    <div className="mt-4">
      <progress aria-label="Scan" value={scan.listed ? scan.done : undefined} max={Math.max(1, all)} />
      <p className="text-sm" role="status">
        {scan.done.toLocaleString("en")} of {scan.listed ? "" : "at least "}
        {all.toLocaleString("en")} files looked at · {Math.round(scan.rate).toLocaleString("en")} a second{left} ·{" "}
        {count(scan.left_out, "file")} left out
      </p>
    </div>
  );
}

type Part = "left-out" | "scans" | "sub-folders" | "links";

/** What more there is to see of a folder: one part at a time, opened from one row. */
function More({ folder }: { folder: Folder }) {
  const [open, setOpen] = useState<Part | null>(null);
  const excluded = folder.excluded.length;
  const parts: [Part, string][] = [
    ...(folder.left_out > 0 ? [["left-out", `${count(folder.left_out, "file")} left out`] as [Part, string]] : []),
    ["scans", "What the last scans found"],
    ["sub-folders", `Sub-folders${excluded > 0 ? ` (${excluded} left out)` : ""}`],
    ["links", `Links${folder.links === "all" ? " (all are followed)" : ""}`],
  ];
  const shown = parts.some(([part]) => part === open) ? open : null;
  const panel = `more-${folder.id}`;
  return (
    <div className="mt-3">
      <div className="flex flex-wrap gap-x-6">
        {parts.map(([part, words]) => (
          <button
            key={part}
            className="min-h-11 text-accent underline"
            aria-label={words}
            aria-expanded={shown === part}
            aria-controls={panel}
            onClick={() => setOpen(shown === part ? null : part)}
          >
            {shown === part ? "▾" : "▸"} {words}
          </button>
        ))}
      </div>
      <div id={panel}>
        {shown === "left-out" && <LeftOutList folder={folder} />}
        {shown === "scans" && <ScanList folder={folder.id} />}
        {shown === "sub-folders" && <SubFolders folder={folder} />}
        {shown === "links" && <Links folder={folder} />}
      </div>
    </div>
  );
}

function LeftOutList({ folder }: { folder: Folder }) {
  const left = useLeftOut(folder.id);
  if (!left.data) return left.error ? <Trouble problem={left.error} /> : <Loading />;
  return (
    <ul className="max-h-64 divide-y divide-line overflow-auto border-y border-line">
      <li className="text-soft">
        On disk {count(left.data.found.video, "film")}, {count(left.data.found.music, "track")},{" "}
        {count(left.data.found.picture, "picture")} and {count(left.data.other, "other file")}; published{" "}
        {count(folder.items.video, "film")}, {count(folder.items.music, "track")} and{" "}
        {count(folder.items.picture, "picture")}.
      </li>
      {left.data.files.some((file) => file.code === "other-drive") && (
        <li className="py-2">
          <AsItIs folder={folder} />
        </li>
      )}
      {left.data.files.map((file) => (
        <li key={file.path} className="py-2">
          <span className="break-all">{file.path}</span> <span className="text-soft">{file.reason}</span>
          {file.remedy && <span className="block text-sm">{file.remedy}</span>}
        </li>
      ))}
    </ul>
  );
}

const WHY: Record<string, string> = {
  first: "published",
  start: "the service started",
  asked: "asked for",
  poll: "looked through",
  change: "a change was noticed",
  many: "more changed at once than could be told",
  back: "the folder came back",
  link: "a drive behind a link went or came",
  stations: "other stations are allowed",
};

function ScanList({ folder }: { folder: number }) {
  const scans = useScans(folder);
  if (!scans.data) return scans.error ? <Trouble problem={scans.error} /> : <Loading />;
  if (scans.data.reports.length === 0) return <p className="text-soft">No scan has found anything yet.</p>;
  return (
    <ul className="max-h-80 divide-y divide-line overflow-auto border-y border-line">
      {scans.data.reports.map((report) => (
        <li key={report.began_ms} className="py-2">
          <p>
            {capital(ago(report.ended_ms))}: {report.added} added, {report.changed} changed, {report.gone} gone{" "}
            <span className="text-soft">({WHY[report.why] ?? report.why})</span>
          </p>
          <ul className="text-sm text-soft">
            {report.files.slice(0, 30).map((file) => (
              <li key={`${file.what} ${file.path}`} className="break-all">
                {file.what} {file.path}
              </li>
            ))}
          </ul>
          {report.files.length > 30 && <p className="text-sm text-soft">… and {report.files.length - 30} more</p>}
        </li>
      ))}
    </ul>
  );
}

function SubFolders({ folder }: { folder: Folder }) {
  const [path, setPath] = useState("");
  const change = useChange(
    (paths: string[]) =>
      api.PUT("/api/v1/folders/{id}/excluded", { params: { path: { id: folder.id } }, body: { paths } }),
    ["folders", "catalogue"],
  );
  const scan = useChange(
    (place: string) =>
      api.POST("/api/v1/folders/{id}/rescan", { params: { path: { id: folder.id } }, body: { path: place } }),
    ["folders"],
  );
  const given = path.trim();
  const done = { onSuccess: () => setPath("") };
  return (
    <div className="space-y-2">
      <ul>
        {folder.excluded.map((out) => (
          <li key={out} className="flex flex-wrap items-center gap-3">
            <span className="break-all">{out} is left out</span>
            <Button onClick={() => change.mutate(folder.excluded.filter((other) => other !== out))}>
              Take it in again
            </Button>
          </li>
        ))}
      </ul>
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          if (given) scan.mutate(given, done);
        }}
      >
        <Field
          label="A sub-folder"
          hint="Its path below the folder, such as Films/Old"
          value={path}
          onChange={(event) => setPath(event.target.value)}
        />
        <Button type="submit" disabled={scan.isPending || !given}>
          Scan it again
        </Button>
        <Button
          type="button"
          onClick={() => change.mutate([...folder.excluded, given], done)}
          disabled={change.isPending || !given}
        >
          Leave it out
        </Button>
      </form>
      <Trouble problem={scan.error ?? change.error} />
    </div>
  );
}

/** Which links that lead out of the folder are followed. */
function Links({ folder }: { folder: Folder }) {
  const change = useChange(
    (links: Folder["links"]) =>
      api.PUT("/api/v1/folders/{id}/links", { params: { path: { id: folder.id } }, body: { links } }),
    ["folders", "catalogue"],
  );
  const all = folder.links === "all";
  return (
    <div className="space-y-2">
      <p className="max-w-prose">
        {all
          ? "All links that lead out of this folder are followed: whoever can write into it can publish whatever the service can read."
          : "A link that leads out of this folder is followed if the administrator of this computer made it, or whoever owns what it leads to, or if its owner could read that."}{" "}
        A link into another published folder is never followed.
      </p>
      <Button onClick={() => change.mutate(all ? "readable" : "all")} disabled={change.isPending}>
        {all ? "Follow only links whose owner could read it" : "Follow all links"}
      </Button>
      <Trouble problem={change.error} />
    </div>
  );
}

function Remove({ folder, open, onClose }: { folder: Folder; open: boolean; onClose: () => void }) {
  const remove = useChange(
    () => api.DELETE("/api/v1/folders/{id}", { params: { path: { id: folder.id } } }),
    ["folders", "house", "catalogue", "places"],
  );
  return (
    <Confirm
      open={open}
      title={`Stop publishing ${folder.label}?`}
      yes="Stop publishing"
      busy={remove.isPending}
      problem={remove.error}
      onYes={() => remove.mutate(undefined, { onSuccess: onClose })}
      onClose={onClose}
    >
      Its {count(total(folder), "item")} vanish from every device. The files themselves stay where they are. Published
      again later, they are new to the devices.
    </Confirm>
  );
}
