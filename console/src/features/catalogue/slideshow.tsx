// Pictures one after another, upright, at a speed that can be set.
import { useEffect, useState } from "react";
import type { CatalogueObject } from "../../api/client";
import { Button } from "../../components/basics";
import { DialogTitle, FullScreen } from "../../components/dialog";

const SPEEDS = [2, 4, 8, 15, 30];

export function Slideshow({ pictures, onClose }: { pictures: CatalogueObject[]; onClose: () => void }) {
  const [at, setAt] = useState(0);
  const [seconds, setSeconds] = useState(4);
  const [running, setRunning] = useState(true);
  const step = (by: number) => setAt((now) => (now + by + pictures.length) % pictures.length);
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
  const next = pictures[(at + 1) % pictures.length];
  if (!picture) return null;
  return (
    <FullScreen onClose={onClose}>
      <div className="flex min-h-0 grow items-center justify-center p-2">
        {/* The medium form is upright already and loads at once, also of a large original. */}
        <img src={`/api/v1${picture.art}med`} alt={picture.title} className="max-h-full max-w-full object-contain" />
        {/* The next one is there when its turn comes. */}
        {next && next !== picture && <img src={`/api/v1${next.art}med`} alt="" hidden />}
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
          {picture.title} · {at + 1} of {pictures.length}
        </DialogTitle>
        <Button onClick={onClose}>Close</Button>
      </div>
    </FullScreen>
  );
}
