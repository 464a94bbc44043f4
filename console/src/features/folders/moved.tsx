// A folder that is at another path now, as on another machine.
import { useState } from "react";
import { api, type Folder } from "../../api/client";
import { useChange } from "../../api/queries";
import { Button, Trouble } from "../../components/basics";
import { Dialog } from "../../components/dialog";
import { Choose } from "./picker";

export function Moved({ folder }: { folder: Folder }) {
  const [asking, setAsking] = useState(false);
  const close = () => setAsking(false);
  return (
    <>
      <Button onClick={() => setAsking(true)}>It is elsewhere now</Button>
      <Dialog open={asking} title={`Where is ${folder.label} now?`} onClose={close}>
        <p className="mt-2 mb-3 break-words text-soft">
          It was at <span className="break-all">{folder.path}</span>. Decisions, proof and places to go on from stay.
        </p>
        <Choose word="Use" onCancel={close}>
          {(path, back) => <Take folder={folder} path={path} onBack={back} onDone={close} />}
        </Choose>
      </Dialog>
    </>
  );
}

interface Taken {
  folder: Folder;
  path: string;
  onBack: () => void;
  onDone: () => void;
}

/** Takes a path. One that does not hold what is recorded is taken only when asked for again. */
function Take({ folder, path, onBack, onDone }: Taken) {
  const move = useChange(
    (anyway: boolean) =>
      api.PUT("/api/v1/folders/{id}/path", { params: { path: { id: folder.id } }, body: { path, anyway } }),
    ["folders", "house", "catalogue", "places"],
  );
  const other = move.error?.status === 409 && move.error.title === "That is another folder";
  return (
    <div>
      <p className="break-all">
        {folder.label} is at <b>{path}</b> now.
      </p>
      <Trouble problem={move.error} />
      <div className="mt-4 flex flex-wrap gap-3">
        <Button look="main" disabled={move.isPending} onClick={() => move.mutate(false, { onSuccess: onDone })}>
          Use it
        </Button>
        {other && (
          <Button look="danger" disabled={move.isPending} onClick={() => move.mutate(true, { onSuccess: onDone })}>
            Use it all the same
          </Button>
        )}
        <Button onClick={onBack}>Back</Button>
      </div>
    </div>
  );
}
