// The pictures of a container one after another, upright, at a speed that can be set.
import { useEffect, useState } from "react";
import { address, type CatalogueObject } from "../../api/client";
import { useAllPictures, type ListOf } from "../../api/queries";
import { Button, Loading, Trouble } from "../../components/basics";
import { DialogTitle, FullScreen } from "../../components/dialog";

const SPEEDS = [2, 4, 8, 15, 30];
/** Pictures before the last known one at which more are asked for. */
const AHEAD = 20;

/** All pictures of a container, or of what was found in it. */
export function Slideshow({ list, onClose }: { list: ListOf; onClose: () => void }) {
  const { pictures, total, complete, more, busy, problem } = useAllPictures(list);
  const [at, setAt] = useState(0);
  const [seconds, setSeconds] = useState(4);
  const [running, setRunning] = useState(true);
  const known = pictures.length;
  const short = !complete && !busy && at + AHEAD >= known;
  useEffect(() => {
    if (short) void more();
  }, [short, more]);
  const step = (by: number) =>
    setAt((now) => {
      const next = now + by;
      // From the last to the first, once it is known which is the last.
      if (next >= known) return complete ? 0 : now;
      if (next < 0) return complete ? known - 1 : now;
      return next;
    });
  useEffect(() => {
    if (!running) return;
    const timer = setInterval(() => step(1), seconds * 1000);
    return () => clearInterval(timer);
  });
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key === "ArrowRight") step(1);
      if (event.key === "ArrowLeft") step(-1);
      if (event.key === " " && !(event.target instanceof HTMLButtonElement)) setRunning((now) => !now);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  });
  const picture = pictures[at];
  const next = pictures[at + 1];
  return (
    <FullScreen onClose={onClose}>
      <div className="flex min-h-0 grow items-center justify-center p-2">
        {picture ? <Slide key={picture.id} picture={picture} /> : !complete && !problem && <Loading />}
        <Trouble problem={problem} />
        {/* The next one is there when its turn comes. */}
        {next && <img src={address(`${next.art}med`)} alt="" hidden />}
      </div>
      <div className="flex flex-wrap items-center gap-3 p-3">
        <Button onClick={() => step(-1)}>‹ Back</Button>
        <Button onClick={() => setRunning(!running)}>{running ? "Pause" : "Resume"}</Button>
        <Button onClick={() => step(1)}>Next ›</Button>
        <label className="flex items-center gap-2">
          Seconds each
          <select
            value={seconds}
            onChange={(event) => setSeconds(Number(event.target.value))}
            className="min-h-11 rounded-lg bg-white px-2 text-black"
          >
            {SPEEDS.map((speed) => (
              <option key={speed} value={speed}>
                {speed}
              </option>
            ))}
          </select>
        </label>
        <DialogTitle className="min-w-0 grow truncate text-right">
          {picture ? `${picture.title} · ${at + 1} of ${total}` : "Slideshow"}
        </DialogTitle>
        <Button onClick={onClose}>Close</Button>
      </div>
    </FullScreen>
  );
}

/** One picture; the medium form is upright already and loads at once, also of a large original. */
function Slide({ picture }: { picture: CatalogueObject }) {
  const [failed, setFailed] = useState(picture.art == null);
  if (failed) return <CannotBeShown picture={picture} />;
  return (
    <img
      src={address(`${picture.art}med`)}
      alt={picture.title}
      className="max-h-full max-w-full object-contain"
      onError={() => setFailed(true)}
    />
  );
}

/** Says in place of a picture that it cannot be shown. */
export function CannotBeShown({ picture }: { picture: CatalogueObject }) {
  return (
    <p role="status" className="rounded-lg border border-current p-6 text-center">
      ▨ {picture.title} cannot be shown.
      <span className="block text-sm">
        Its file ({picture.facts?.file_name}) may be damaged. Check it or replace it.
      </span>
    </p>
  );
}
