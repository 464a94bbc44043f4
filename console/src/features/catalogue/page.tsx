// What the content directory offers, as a person signed in sees it.
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, type CatalogueObject } from "../../api/client";
import { PAGE, useChange, useContinued, useDevices, useList, usePreferences, useReadPage } from "../../api/queries";
import { Button, Card, Headline, Loading, Trouble } from "../../components/basics";
import { Chosen } from "../../components/chosen";
import { Item } from "./item";
import { Listing } from "./listing";
import { Picture } from "./picture";
import { Slideshow } from "./slideshow";
import { count, length } from "../../lib/words";

/** Orders offered beside the container's own. */
const ORDERS: [string, string][] = [
  ["", "as on the televisions"],
  ["+dc:title", "by title"],
  ["-dc:date", "newest date first"],
  ["+dc:date", "oldest date first"],
  ["-res@size", "largest first"],
];

export function Catalogue() {
  const { id = "0" } = useParams();
  const [query, setQuery] = useSearchParams();
  const [slides, setSlides] = useState(false);
  const start = Number(query.get("start") ?? 0);
  const wanted = query.get("q") ?? "";
  const sort = query.get("sort") ?? "";
  const chosen = query.get("item") ?? undefined;
  const list = { id, wanted, sort };
  const page = useList(list, start);
  const devices = useDevices();
  const navigate = useNavigate();
  const readPage = useReadPage(list);
  const preferences = usePreferences();
  const prefer = useChange((grid: boolean) => api.PUT("/api/v1/preferences", { body: { grid } }), ["preferences"]);
  /** Whether the player begins by itself, as what was heard before has ended. */
  const [goesOn, setGoesOn] = useState(false);
  /** Changes part of the query; what is empty goes. */
  const change = (parts: Record<string, string | undefined>) => {
    const next = new URLSearchParams(query);
    for (const [name, value] of Object.entries(parts)) {
      if (value) next.set(name, value);
      else next.delete(name);
    }
    setQuery(next);
  };
  if (!page.data) {
    return page.error ? <Trouble problem={page.error} /> : <Loading />;
  }
  const here = page.data.path.at(-1);
  const { objects, total, groups } = page.data;
  const pictured =
    objects.some((object) => object.facts?.kind === "picture") || groups?.some((group) => group.group === "pictures");
  const grid = preferences.data?.grid ?? false;
  const at = objects.findIndex((object) => object.id === chosen);
  const isItem = (object?: CatalogueObject) => object !== undefined && object.children == null;
  /** Whether there is an item before or after the chosen one. */
  const leads = (by: 1 | -1) => {
    const place = start + at + by;
    if (at < 0 || place < 0 || place >= total) return false;
    return at + by < 0 || at + by >= objects.length || isItem(objects[at + by]);
  };
  const step = async (by: 1 | -1) => {
    const beside = objects[at + by];
    if (beside) return change({ item: beside.id });
    const from = Math.max(0, by > 0 ? start + PAGE : start - PAGE);
    const other = await readPage(from);
    const next = by > 0 ? other.objects[0] : other.objects.at(-1);
    if (isItem(next)) change({ start: String(from), item: next?.id });
  };
  const empty = wanted
    ? "No title, artist, album or file name here holds these words, and nothing is of that date. Fewer words find more."
    : "Nothing is in here yet. Publish a folder first; what it holds appears by itself.";
  return (
    <>
      <Headline
        below={
          page.data.incomplete
            ? "A folder is still being scanned; more may come."
            : page.data.total === 0
              ? empty
              : undefined
        }
      >
        {wanted
          ? `${count(page.data.total, "thing")} found${id === "0" ? "" : ` in ${here?.title}`}.`
          : id === "0"
            ? `The catalogue offers ${count(here?.items ?? 0, "item")}.`
            : `${here?.title} holds ${count(page.data.total, "entry", "entries")}.`}
      </Headline>
      {devices.data && devices.data.length > 0 && (
        <label className="mb-4 flex flex-wrap items-center gap-2">
          <span>Seen by</span>
          <select
            className="min-h-11 rounded-lg border border-line bg-paper px-3"
            value=""
            onChange={(event) => void navigate(`/seen-by/${event.target.value}`)}
          >
            <option value="">you</option>
            {devices.data.map((device) => (
              <option key={device.id} value={device.id}>
                {device.label}
              </option>
            ))}
          </select>
        </label>
      )}
      <Search
        key={`${id} ${wanted}`}
        wanted={wanted}
        place={id === "0" ? undefined : here?.title}
        onSearch={(q) => change({ q, start: undefined, item: undefined })}
      />
      <nav aria-label="Where" className="mb-3 flex flex-wrap items-center gap-x-2">
        {page.data.path.map((object, n) => (
          <span key={object.id} className="flex items-center gap-2">
            {n > 0 && (
              <span aria-hidden className="text-soft">
                ›
              </span>
            )}
            <Link
              to={`/catalogue/${object.id}`}
              className="flex min-h-11 items-center text-accent underline"
              aria-current={n === page.data.path.length - 1 ? "page" : undefined}
            >
              {n === 0 ? "Catalogue" : object.title}
            </Link>
          </span>
        ))}
      </nav>
      {id === "0" && !wanted && <GoOn />}
      <div
        className={`grid grid-cols-[minmax(0,1fr)] items-start gap-5 ${chosen || !grid ? "lg:grid-cols-[3fr_2fr]" : ""}`}
      >
        {page.data.total > 0 && (
          <Card>
            <div className="mb-2 flex flex-wrap items-center gap-3">
              <label className="flex items-center gap-2 text-sm text-soft">
                Order
                <select
                  value={sort}
                  onChange={(event) => change({ sort: event.target.value, start: undefined })}
                  className="min-h-11 rounded-lg border border-line bg-sheet px-2 text-ink"
                >
                  {ORDERS.map(([value, words]) => (
                    <option key={value} value={value}>
                      {words}
                    </option>
                  ))}
                </select>
              </label>
              <Button aria-pressed={grid} disabled={prefer.isPending} onClick={() => prefer.mutate(!grid)}>
                {grid ? "As a list" : "As a grid"}
              </Button>
              {pictured && <Button onClick={() => setSlides(true)}>Slideshow</Button>}
            </div>
            <Trouble problem={prefer.error} />
            <Listing
              page={page.data}
              grid={grid}
              chosen={chosen}
              onChoose={(item) => {
                setGoesOn(false);
                change({ item });
              }}
            />
            {page.data.total > PAGE && (
              <div className="mt-3 flex items-center gap-3">
                <Button disabled={start === 0} onClick={() => change({ start: String(Math.max(0, start - PAGE)) })}>
                  ‹ Back
                </Button>
                <span>
                  {start + 1} to {start + page.data.objects.length} of {page.data.total.toLocaleString("en")}
                </span>
                <Button
                  disabled={start + PAGE >= page.data.total}
                  onClick={() => change({ start: String(start + PAGE) })}
                >
                  Next ›
                </Button>
              </div>
            )}
          </Card>
        )}
        {chosen && (
          <Chosen
            label={objects[at]?.title ?? "What was chosen"}
            row={`object-${chosen}`}
            onBack={() => change({ item: undefined })}
          >
            {(leads(-1) || leads(1)) && (
              <div className="mb-3 flex items-center gap-3">
                <Button disabled={!leads(-1)} onClick={() => void step(-1)}>
                  ‹ Previous
                </Button>
                <Button disabled={!leads(1)} onClick={() => void step(1)}>
                  Next ›
                </Button>
                <span className="text-sm text-soft">
                  {start + at + 1} of {count(total, "entry", "entries")}
                </span>
              </div>
            )}
            <Item
              key={chosen}
              id={chosen}
              goesOn={goesOn}
              onEnd={() => {
                setGoesOn(true);
                if (leads(1)) void step(1);
              }}
            />
          </Chosen>
        )}
      </div>
      {slides && <Slideshow list={list} onClose={() => setSlides(false)} />}
    </>
  );
}

function Search({ wanted, place, onSearch }: { wanted: string; place?: string; onSearch: (q: string) => void }) {
  const [text, setText] = useState(wanted);
  return (
    <form
      role="search"
      className="mb-3 flex flex-wrap gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        onSearch(text.trim());
      }}
    >
      <input
        type="search"
        aria-label="Words or a date"
        placeholder={`Title, artist, album, file name, 2024 or March 2024${place ? `, in ${place}` : ""}`}
        value={text}
        onChange={(event) => setText(event.target.value)}
        className="min-h-11 min-w-0 grow rounded-lg border border-line bg-sheet px-3"
      />
      <Button type="submit">Find</Button>
      {wanted && <Button onClick={() => onSearch("")}>Show all</Button>}
    </form>
  );
}

/** What the person began and did not finish. */
function GoOn() {
  const begun = useContinued();
  if (!begun.data?.objects.length) return null;
  return (
    <div className="mb-5">
      <Card title="Continue">
        <ul className="divide-y divide-line">
          {begun.data.objects.slice(0, 5).map((object) => (
            <li key={object.id}>
              <Link
                to={`/catalogue/${object.parent}?item=${object.id}`}
                className="flex min-h-11 items-center gap-3 rounded-lg px-2 py-2 hover:bg-accent-wash"
              >
                <Picture art={object.art} />
                <span className="min-w-0 grow truncate">{object.title}</span>
                <span className="text-sm whitespace-nowrap text-soft">
                  stopped at {length(object.position?.position_ms ?? 0)}
                </span>
              </Link>
            </li>
          ))}
        </ul>
      </Card>
    </div>
  );
}
