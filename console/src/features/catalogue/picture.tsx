// A small picture of something in the catalogue, or a sign for its kind.
import { useState } from "react";
import { address } from "../../api/client";

export const SIGNS: Record<string, string> = { video: "▭", music: "♪", picture: "▨", container: "▸" };

/** `art` is a path of the interface up to the size. */
export function Picture({ art, kind }: { art?: string | null; kind?: string }) {
  const [failed, setFailed] = useState(false);
  return (
    <span
      aria-hidden
      className="flex h-10 w-14 shrink-0 items-center justify-center overflow-hidden rounded bg-accent-wash text-accent"
    >
      {art && !failed ? (
        <img
          src={address(`${art}tn`)}
          alt=""
          loading="lazy"
          className="h-full w-full object-cover"
          onError={() => setFailed(true)}
        />
      ) : (
        SIGNS[kind ?? "container"]
      )}
    </span>
  );
}
