// What an admitted device may see: kinds and folders, chosen in a dialog.
import { useState } from "react";
import { api, type Device, type Folder } from "../../api/client";
import { useChange, useFolders, usePresets } from "../../api/queries";
import { Button, Field, Loading, Trouble } from "../../components/basics";
import { Dialog } from "../../components/dialog";
import { KINDS } from "../../lib/words";

/** A grant in words: "films, music in Films, Records". */
export function grantWords(device: Device, folders: Folder[] | undefined): string {
  const word = (kind: string) => (KINDS.find(([key]) => key === kind)?.[1] ?? kind).toLowerCase();
  const kinds = device.kinds.length === KINDS.length ? "everything" : device.kinds.map(word).join(", ");
  if (!device.folders) return kinds;
  const label = (id: number) => folders?.find((folder) => folder.id === id)?.label;
  const names = device.folders.map(label).filter(Boolean);
  return names.length === 0 ? "nothing: its folders are no longer published" : `${kinds} in ${names.join(", ")}`;
}

/** What it may not see: "no films, no music"; nothing where it may see every kind. */
export function withheldWords(device: Device): string {
  const withheld = KINDS.filter(([kind]) => !device.kinds.includes(kind));
  return withheld.map(([, name]) => `no ${name.toLowerCase()}`).join(", ");
}

export type Grant = { kinds: string[]; folders?: number[]; all_folders?: boolean };

/** Asks for a grant; starts from the device's own. */
export function GrantDialog({
  device,
  onChosen,
  onClose,
}: {
  device: Device;
  onChosen: (grant: Grant) => void;
  onClose: () => void;
}) {
  return (
    <Dialog title={`What may ${device.label} see?`} onClose={onClose}>
      <Choice device={device} onChosen={onChosen} onClose={onClose} />
    </Dialog>
  );
}

function Choice({
  device,
  onChosen,
  onClose,
}: {
  device: Device;
  onChosen: (grant: Grant) => void;
  onClose: () => void;
}) {
  const folders = useFolders();
  const presets = usePresets();
  const [keeping, setKeeping] = useState("");
  const keep = useChange(
    (body: { kinds: string[]; folders?: number[] }) =>
      api.PUT("/api/v1/presets/{name}", { params: { path: { name: keeping.trim() } }, body }),
    ["devices"],
  );
  const [kinds, setKinds] = useState(device.kinds);
  const [only, setOnly] = useState(device.folders != null);
  const [chosen, setChosen] = useState<number[]>(device.folders ?? []);
  if (!folders.data) return <Loading />;
  // A folder that is no longer published must not stay chosen unseen.
  const usable = chosen.filter((id) => folders.data.some((folder) => folder.id === id));
  const toggled = <T,>(list: T[], one: T) => (list.includes(one) ? list.filter((o) => o !== one) : [...list, one]);
  const line = "flex min-h-11 items-center gap-2";
  return (
    <form
      className="mt-3 space-y-4"
      onSubmit={(event) => {
        event.preventDefault();
        onChosen(only ? { kinds, folders: usable } : { kinds, all_folders: true });
      }}
    >
      <div className="flex flex-wrap gap-2" role="group" aria-label="Presets">
        {presets.data?.map((preset) => (
          <Button
            key={preset.name}
            onClick={() => {
              setKinds(preset.kinds);
              setOnly(preset.folders != null);
              setChosen(preset.folders ?? []);
            }}
          >
            {preset.name}
          </Button>
        ))}
      </div>
      <fieldset>
        <legend className="font-bold">Kinds</legend>
        <div className="flex flex-wrap gap-x-5">
          {KINDS.map(([kind, name]) => (
            <label key={kind} className={line}>
              <input
                type="checkbox"
                className="size-5 accent-accent"
                checked={kinds.includes(kind)}
                onChange={() => setKinds(toggled(kinds, kind))}
              />
              {name}
            </label>
          ))}
        </div>
      </fieldset>
      <fieldset>
        <legend className="font-bold">Folders</legend>
        <label className={line}>
          <input
            type="radio"
            name="folders"
            className="size-5 accent-accent"
            checked={!only}
            onChange={() => setOnly(false)}
          />
          All folders, including future ones
        </label>
        <label className={line}>
          <input
            type="radio"
            name="folders"
            className="size-5 accent-accent"
            checked={only}
            onChange={() => setOnly(true)}
          />
          Only the folders ticked
        </label>
        {only && (
          <div className="max-h-60 overflow-y-auto pl-7">
            {folders.data.map((folder) => (
              <label key={folder.id} className={line}>
                <input
                  type="checkbox"
                  className="size-5 shrink-0 accent-accent"
                  checked={usable.includes(folder.id)}
                  onChange={() => setChosen(toggled(usable, folder.id))}
                />
                {folder.label}
              </label>
            ))}
            {folders.data.length === 0 && <p className="text-soft">No folder is published yet.</p>}
          </div>
        )}
      </fieldset>
      <details>
        <summary className="min-h-11 cursor-pointer text-accent underline">Keep this as a preset</summary>
        <div className="flex items-end gap-3">
          <div className="grow">
            <Field
              label="Name of the preset"
              value={keeping}
              maxLength={63}
              onChange={(event) => setKeeping(event.target.value)}
            />
          </div>
          <Button
            disabled={keeping.trim() === "" || kinds.length === 0 || keep.isPending}
            onClick={() =>
              keep.mutate(only ? { kinds, folders: usable } : { kinds }, { onSuccess: () => setKeeping("") })
            }
          >
            Keep
          </Button>
        </div>
        <Trouble problem={keep.error} />
      </details>
      <div className="flex gap-3">
        <Button look="main" type="submit" disabled={kinds.length === 0 || (only && usable.length === 0)}>
          Let in with these rights
        </Button>
        <Button onClick={onClose}>Back</Button>
      </div>
    </form>
  );
}
