// What a container holds, or what was found, as a list or as a grid of pictures.
import { useState } from "react";
import { useNavigate } from "react-router";
import { address, type Catalogue, type CatalogueObject } from "../../api/client";
import { Picture, SIGNS } from "./picture";
import { bytes, count, length } from "../../lib/words";

/** Names of the groups in which something is found. */
const GROUPS: Record<string, string> = {
  artists: "Artists",
  albums: "Albums",
  lists: "Genres, series, years and playlists",
  folders: "Folders",
  films: "Films",
  music: "Music",
  pictures: "Pictures",
};

type Part = { name?: string; count?: number; objects: CatalogueObject[] };

/** The objects of a page by the group in which they were found; all together where there is none. */
export function parts(page: Catalogue): Part[] {
  if (!page.groups?.length) return [{ objects: page.objects }];
  const all: Part[] = [];
  let first = 0;
  for (const group of page.groups) {
    const from = Math.max(0, first - page.start);
    const to = Math.max(0, first + group.count - page.start);
    const objects = page.objects.slice(from, to);
    if (objects.length > 0) all.push({ name: GROUPS[group.group] ?? group.group, count: group.count, objects });
    first += group.count;
  }
  return all;
}

export function Listing({
  page,
  grid,
  chosen,
  onChoose,
}: {
  page: Catalogue;
  grid: boolean;
  chosen?: string;
  onChoose: (id: string) => void;
}) {
  const navigate = useNavigate();
  const open = (object: CatalogueObject) =>
    object.children != null ? void navigate(`/catalogue/${object.id}`) : onChoose(object.id);
  const Entry = grid ? Tile : Row;
  return parts(page).map((part) => (
    <section key={part.name ?? ""} aria-label={part.name} className="mb-4 last:mb-0">
      {part.name && (
        <h2 className="mb-1 font-bold">
          {part.name} <span className="font-normal text-soft">{part.count}</span>
        </h2>
      )}
      <ul
        className={
          grid ? "grid grid-cols-[repeat(auto-fill,minmax(8.5rem,1fr))] gap-3" : "divide-y divide-line border-line"
        }
      >
        {part.objects.map((object) => (
          <Entry key={object.id} object={object} chosen={object.id === chosen} onOpen={() => open(object)} />
        ))}
      </ul>
    </section>
  ));
}

type Entry = { object: CatalogueObject; chosen: boolean; onOpen: () => void };

function Row({ object, chosen, onOpen }: Entry) {
  const container = object.children != null;
  const facts = object.facts;
  const side = container
    ? [object.artist, object.within && `in ${object.within}`, count(object.items ?? 0, "item")]
        .filter(Boolean)
        .join(" · ")
    : [
        facts?.artists?.[0],
        facts?.duration_ms != null ? length(facts.duration_ms) : facts?.resolution,
        facts?.station ? "station" : bytes(facts?.size ?? 0),
      ]
        .filter(Boolean)
        .join(" · ");
  return (
    <li>
      <button
        id={`object-${object.id}`}
        className={`flex min-h-11 w-full items-center gap-3 rounded-lg px-2 py-2 text-left hover:bg-accent-wash ${chosen ? "bg-accent-wash" : ""}`}
        onClick={onOpen}
      >
        <Picture art={object.art} kind={container ? "container" : facts?.kind} />
        <span className="min-w-0 grow truncate">{object.title}</span>
        {object.position?.seen && <span className="text-sm text-soft">seen</span>}
        <span className="hidden text-sm whitespace-nowrap text-soft sm:inline">{side}</span>
      </button>
    </li>
  );
}

function Tile({ object, chosen, onOpen }: Entry) {
  const [failed, setFailed] = useState(false);
  const container = object.children != null;
  return (
    <li>
      <button
        id={`object-${object.id}`}
        className={`block w-full rounded-lg p-1 text-left hover:bg-accent-wash ${chosen ? "bg-accent-wash outline-2 outline-accent" : ""}`}
        onClick={onOpen}
      >
        <span
          aria-hidden
          className="flex aspect-square items-center justify-center overflow-hidden rounded bg-accent-wash text-3xl text-accent"
        >
          {object.art && !failed ? (
            <img
              src={address(`${object.art}sm`)}
              alt=""
              loading="lazy"
              className="h-full w-full object-cover"
              onError={() => setFailed(true)}
            />
          ) : (
            SIGNS[container ? "container" : (object.facts?.kind ?? "container")]
          )}
        </span>
        <span className="mt-1 block truncate text-sm">{object.title}</span>
        {container && (
          <span className="block text-sm text-soft">
            {[object.within && `in ${object.within}`, count(object.items ?? 0, "item")].filter(Boolean).join(" · ")}
          </span>
        )}
      </button>
    </li>
  );
}
