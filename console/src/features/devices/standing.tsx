// A device's standing, and deciding on it where it is shown.
import { useEffect, useState } from "react";
import type { Device } from "../../api/client";
import { useDecide, useFolders, type Decision } from "../../api/queries";
import { Button, Trouble } from "../../components/basics";
import { GrantDialog, grantWords } from "./grant";
import { KINDS } from "../../lib/words";

const MARKS: Record<string, { icon: string; look: string }> = {
  waiting: { icon: "◷", look: "bg-amber-wash text-amber" },
  admitted: { icon: "✓", look: "bg-accent-wash text-accent" },
  refused: { icon: "⊘", look: "bg-brick-wash text-brick" },
};

export function StandingMark({ standing, note }: { standing: string; note?: string }) {
  const mark = MARKS[standing];
  return (
    <span className={`inline-flex items-center gap-1 rounded-full px-2 text-sm whitespace-nowrap ${mark?.look ?? ""}`}>
      <span aria-hidden>{mark?.icon}</span> {standing}
      {note}
    </span>
  );
}

const UNDO_SECONDS = 10;
const EVERYTHING = { kinds: KINDS.map(([kind]) => kind), all_folders: true };

/** Buttons for a decision; the result shows in place, with undo for ten seconds. */
export function Decide({ device }: { device: Device }) {
  const decide = useDecide();
  const folders = useFolders();
  const [choosing, setChoosing] = useState(false);
  const [before, setBefore] = useState<Device | null>(null);
  useEffect(() => {
    if (!before) return;
    const timer = setTimeout(() => setBefore(null), UNDO_SECONDS * 1000);
    return () => clearTimeout(timer);
  }, [before]);
  const run = (decision: Omit<Decision, "device">) => {
    const earlier = device;
    decide.mutate({ device, ...decision }, { onSuccess: () => setBefore(earlier) });
  };
  const everything = device.kinds.length === KINDS.length && !device.folders;
  const picturesOnly = device.kinds.length === 1 && device.kinds[0] === "picture" && !device.folders;
  return (
    <div>
      <div className="flex flex-wrap items-center gap-3">
        {device.standing !== "admitted" && (
          <Button look="main" disabled={decide.isPending} onClick={() => run({ standing: "admitted" })}>
            {everything ? "Admit" : `Admit to ${grantWords(device, folders.data)}`}
          </Button>
        )}
        {!everything && (
          <Button disabled={decide.isPending} onClick={() => run({ standing: "admitted", ...EVERYTHING })}>
            Admit to everything
          </Button>
        )}
        {!(device.standing === "admitted" && picturesOnly) && (
          <Button
            disabled={decide.isPending}
            onClick={() => run({ standing: "admitted", kinds: ["picture"], all_folders: true })}
          >
            Pictures only
          </Button>
        )}
        <Button disabled={decide.isPending} onClick={() => setChoosing(true)}>
          Choose…
        </Button>
        {device.standing !== "refused" && (
          <Button look="danger" disabled={decide.isPending} onClick={() => run({ standing: "refused" })}>
            Refuse
          </Button>
        )}
        {before && (
          <span role="status" className="flex items-center gap-3">
            <span className="text-soft">
              {device.label} is {device.standing}
              {device.standing === "admitted" && !everything ? ` to ${grantWords(device, folders.data)}` : ""}.
            </span>
            <Button
              onClick={() =>
                decide.mutate(
                  {
                    device,
                    standing: before.standing,
                    kinds: before.kinds,
                    folders: before.folders ?? undefined,
                    all_folders: before.folders ? undefined : true,
                  },
                  { onSuccess: () => setBefore(null) },
                )
              }
            >
              Undo
            </Button>
          </span>
        )}
      </div>
      <Trouble problem={decide.error} />
      {choosing && (
        <GrantDialog
          device={device}
          onClose={() => setChoosing(false)}
          onChosen={(grant) => {
            setChoosing(false);
            run({ standing: "admitted", ...grant });
          }}
        />
      )}
    </div>
  );
}
