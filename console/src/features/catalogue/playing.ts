// Tells the house that something plays here, so that Today says so.
import { useCallback, useEffect, useMemo, useRef } from "react";
import { api } from "../../api/client";

/** Milliseconds after which the house is told again; it forgets after three of these. */
const EVERY = 5_000;

export type Told = { onPlaying: () => void; onPause: () => void };

/** What a player calls when it plays and when it stops. */
export function useTellPlaying(id: string): Told {
  const timer = useRef<number | undefined>(undefined);
  const stop = useCallback(() => {
    if (timer.current === undefined) return;
    window.clearInterval(timer.current);
    timer.current = undefined;
    void api.DELETE("/api/v1/playing");
  }, []);
  useEffect(() => stop, [stop]);
  return useMemo(() => {
    const tell = () => void api.PUT("/api/v1/playing", { body: { object: id } });
    return {
      onPlaying: () => {
        window.clearInterval(timer.current);
        timer.current = window.setInterval(tell, EVERY);
        tell();
      },
      onPause: stop,
    };
  }, [id, stop]);
}
