// What the content directory offers, as a person signed in sees it.
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { CatalogueObject } from "../../api/client";
import { PAGE, useContainer, useContinued } from "../../api/queries";
import { Button, Card, Headline, Loading, Trouble } from "../../components/basics";
import { Chosen } from "../../components/chosen";
import { Item } from "./item";
import { Picture } from "./picture";
import { Slideshow } from "./slideshow";
import { bytes, count, length } from "../../lib/words";

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
  const page = useContainer(id, start, wanted, sort);
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
  const pictures = page.data.objects.filter((object) => object.facts?.kind === "picture");
  const empty = wanted
    ? "No title here holds these words. Fewer words find more."
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
          ? `${count(page.data.total, "entry", "entries")} found${id === "0" ? "" : ` in ${here?.title}`}.`
          : id === "0"
            ? `The catalogue offers ${count(here?.items ?? 0, "item")}.`
            : `${here?.title} holds ${count(page.data.total, "entry", "entries")}.`}
      </Headline>
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
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[3fr_2fr]">
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
              {pictures.length > 1 && <Button onClick={() => setSlides(true)}>Slideshow</Button>}
            </div>
            <ul className="divide-y divide-line">
              {page.data.objects.map((object) => (
                <Row
                  key={object.id}
                  object={object}
                  chosen={object.id === chosen}
                  onChoose={() => change({ item: object.id })}
                />
              ))}
            </ul>
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
            key={chosen}
            label={page.data.objects.find((object) => object.id === chosen)?.title ?? "What was chosen"}
            row={`object-${chosen}`}
            onBack={() => change({ item: undefined })}
          >
            <Item id={chosen} />
          </Chosen>
        )}
      </div>
      {slides && <Slideshow pictures={pictures} onClose={() => setSlides(false)} />}
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
        aria-label="Words of a title"
        placeholder={place ? `Words of a title in ${place}` : "Words of a title"}
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
      <Card title="Go on with">
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

function Row({ object, chosen, onChoose }: { object: CatalogueObject; chosen: boolean; onChoose: () => void }) {
  const navigate = useNavigate();
  const container = object.children != null;
  const facts = object.facts;
  const side = container
    ? [object.artist, count(object.items ?? 0, "item")].filter(Boolean).join(" · ")
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
        onClick={() => (container ? void navigate(`/catalogue/${object.id}`) : onChoose())}
      >
        <Picture art={object.art} kind={container ? "container" : facts?.kind} />
        <span className="min-w-0 grow truncate">{object.title}</span>
        {object.position?.seen && <span className="text-sm text-soft">seen</span>}
        <span className="hidden text-sm whitespace-nowrap text-soft sm:inline">{side}</span>
      </button>
    </li>
  );
}
