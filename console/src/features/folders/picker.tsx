// The folder picker: proposals first, then the host's directories.
import { useState, type ReactNode } from "react";
import { api } from "../../api/client";
import { useChange, usePlaces } from "../../api/queries";
import { Button, Field, Loading, Trouble } from "../../components/basics";
import { KINDS } from "../../lib/words";

export function Picker({ onDone, onCancel }: { onDone: () => void; onCancel?: () => void }) {
  return (
    <Choose word="Publish" onCancel={onCancel}>
      {(path, back) => <Publish path={path} onDone={onDone} onBack={back} onCancel={onCancel} />}
    </Choose>
  );
}

interface Choice {
  /** What is done with a directory. */
  word: string;
  onCancel?: () => void;
  /** What comes once one is chosen. */
  children: (path: string, back: () => void) => ReactNode;
}

/** Chooses a directory of the host, which is not published yet. */
export function Choose({ word, onCancel, children }: Choice) {
  const [path, setPath] = useState("");
  const [chosen, setChosen] = useState<string | null>(null);
  const places = usePlaces(path);
  if (chosen !== null) return children(chosen, () => setChosen(null));
  return (
    <div>
      <form
        className="mb-3 flex items-end gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          const typed = new FormData(event.currentTarget).get("path");
          // Whatever is wrong with it, the house says.
          if (typeof typed === "string") setPath(typed.trim());
        }}
      >
        <div className="grow">
          <Field
            key={path}
            label="Folder on the host"
            name="path"
            defaultValue={path}
            placeholder="/srv/media"
            autoComplete="off"
          />
        </div>
        <Button type="submit">Go</Button>
      </form>
      <div className="flex flex-wrap gap-3">
        {path && (
          <>
            <Button onClick={() => setPath(places.data?.parent ?? "")}>↑ Up</Button>
            <Button look="main" disabled={!places.data} onClick={() => setChosen(places.data?.path ?? path)}>
              {word} this folder
            </Button>
          </>
        )}
        {onCancel && <Button onClick={onCancel}>Cancel</Button>}
      </div>
      <Trouble problem={places.error} />
      {places.isPending && <Loading />}
      <ul className="mt-3 max-h-80 divide-y divide-line overflow-auto" aria-label="Folders">
        {places.data?.places.map((place) => (
          <li key={place.path} className="flex items-center gap-3">
            <button
              className="min-h-11 min-w-0 grow py-2 text-left disabled:text-soft"
              disabled={Boolean(place.problem)}
              onClick={() => setPath(place.path)}
            >
              <span className="font-bold">{place.name}</span>
              <span className="block truncate text-sm text-soft">
                {[place.why, path ? null : place.path, place.problem].filter(Boolean).join(" · ")}
              </span>
            </button>
            {!place.problem && place.path !== "/" && (
              <Button onClick={() => setChosen(place.path)} aria-label={`${word} ${place.name}`}>
                {word}
              </Button>
            )}
          </li>
        ))}
        {places.data?.places.length === 0 && <li className="py-3 text-soft">No folders in here.</li>}
      </ul>
    </div>
  );
}

function Publish({
  path,
  onDone,
  onBack,
  onCancel,
}: {
  path: string;
  onDone: () => void;
  onBack: () => void;
  onCancel?: () => void;
}) {
  const [label, setLabel] = useState(path.split("/").at(-1) ?? "");
  const [kinds, setKinds] = useState<string[]>(KINDS.map(([kind]) => kind));
  const add = useChange(
    () => api.POST("/api/v1/folders", { body: { path, label, kinds } }),
    ["folders", "house", "catalogue", "places"],
  );
  const toggle = (kind: string) => setKinds(kinds.includes(kind) ? kinds.filter((k) => k !== kind) : [...kinds, kind]);
  return (
    <form
      className="space-y-4"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate(undefined, { onSuccess: onDone });
      }}
    >
      <p className="break-all">{path}</p>
      <Field
        label="Label in the menus"
        value={label}
        maxLength={63}
        required
        onChange={(e) => setLabel(e.target.value)}
      />
      <fieldset>
        <legend className="font-bold">It holds</legend>
        <div className="flex flex-wrap gap-5">
          {KINDS.map(([kind, name]) => (
            <label key={kind} className="flex min-h-11 items-center gap-2">
              <input
                type="checkbox"
                className="size-5 accent-accent"
                checked={kinds.includes(kind)}
                onChange={() => toggle(kind)}
              />
              {name}
            </label>
          ))}
        </div>
      </fieldset>
      <p className="text-soft">The files stay where they are and are never changed.</p>
      <div className="flex gap-3">
        <Button look="main" type="submit" disabled={add.isPending || kinds.length === 0}>
          Publish
        </Button>
        <Button onClick={onBack}>Back</Button>
        {onCancel && <Button onClick={onCancel}>Cancel</Button>}
      </div>
      <Trouble problem={add.error} />
    </form>
  );
}
