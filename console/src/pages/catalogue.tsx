// What the content directory offers, as a person signed in sees it.
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { CatalogueObject, Problem } from "../api/client";
import { PAGE, useContainer, useObject } from "../api/queries";
import { Button, Card, Headline, Loading, Trouble } from "../parts/basics";
import { bytes, count, length } from "../parts/words";

const ICONS: Record<string, string> = { video: "▭", music: "♪", picture: "▨" };

export function Catalogue() {
  const { id = "0" } = useParams();
  const [search, setSearch] = useSearchParams();
  const start = Number(search.get("start") ?? 0);
  const chosen = search.get("item") ?? undefined;
  const page = useContainer(id, start);
  if (!page.data) {
    return page.error ? <Trouble problem={page.error as Problem} /> : <Loading />;
  }
  const here = page.data.path.at(-1);
  const go = (to: number) => setSearch(to > 0 ? { start: String(to) } : {});
  return (
    <>
      <Headline
        below={
          page.data.total === 0
            ? "Nothing is in here yet. Publish a folder first; what it holds appears by itself."
            : undefined
        }
      >
        {id === "0" ? `The catalogue offers ${count(here?.items ?? 0, "item")}.` : `${here?.title} holds ${count(page.data.total, "entry", "entries")}.`}
      </Headline>
      <nav aria-label="Where" className="mb-3 flex flex-wrap items-center gap-x-2">
        {page.data.path.map((object, n) => (
          <span key={object.id} className="flex items-center gap-2">
            {n > 0 && <span aria-hidden className="text-soft">›</span>}
            <Link to={`/catalogue/${object.id}`} className="flex min-h-11 items-center text-accent underline" aria-current={n === page.data.path.length - 1 ? "page" : undefined}>
              {n === 0 ? "Catalogue" : object.title}
            </Link>
          </span>
        ))}
      </nav>
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[3fr_2fr]">
        {page.data.total > 0 && (
          <Card>
            <ul className="divide-y divide-line">
              {page.data.objects.map((object) => (
                <Row key={object.id} object={object} chosen={object.id === chosen} onChoose={() => setSearch({ ...(start > 0 ? { start: String(start) } : {}), item: object.id })} />
              ))}
            </ul>
            {page.data.total > PAGE && (
              <div className="mt-3 flex items-center gap-3">
                <Button disabled={start === 0} onClick={() => go(Math.max(0, start - PAGE))}>
                  ‹ Back
                </Button>
                <span>
                  {start + 1} to {start + page.data.objects.length} of {page.data.total.toLocaleString("en")}
                </span>
                <Button disabled={start + PAGE >= page.data.total} onClick={() => go(start + PAGE)}>
                  On ›
                </Button>
              </div>
            )}
          </Card>
        )}
        {chosen && <Facts id={chosen} />}
      </div>
    </>
  );
}

function Row({ object, chosen, onChoose }: { object: CatalogueObject; chosen: boolean; onChoose: () => void }) {
  const navigate = useNavigate();
  const container = object.children != null;
  const facts = object.facts;
  const side = container
    ? count(object.items ?? 0, "item")
    : [facts?.duration_ms != null ? length(facts.duration_ms) : facts?.resolution, bytes(facts?.size ?? 0)].filter(Boolean).join(" · ");
  return (
    <li>
      <button
        className={`flex min-h-11 w-full items-center gap-3 rounded-lg px-2 py-2 text-left hover:bg-accent-wash ${chosen ? "bg-accent-wash" : ""}`}
        onClick={() => (container ? void navigate(`/catalogue/${object.id}`) : onChoose())}
      >
        <span aria-hidden className="w-5 text-accent">
          {container ? "▸" : ICONS[facts?.kind ?? ""]}
        </span>
        <span className="min-w-0 grow truncate">{object.title}</span>
        <span className="text-sm whitespace-nowrap text-soft">{side}</span>
      </button>
    </li>
  );
}

function Facts({ id }: { id: string }) {
  const object = useObject(id);
  const facts = object.data?.facts;
  if (!object.data || !facts) return <Card>{object.error ? <Trouble problem={object.error as Problem} /> : <Loading />}</Card>;
  const file = `/api/v1/catalogue/${id}/file`;
  const rows: [string, string | null | undefined][] = [
    ["File", facts.file_name],
    ["Artist", facts.artist],
    ["Album", facts.album],
    ["Date", facts.date],
    ["Length", facts.duration_ms != null ? length(facts.duration_ms) : null],
    ["Resolution", facts.resolution],
    ["Size", bytes(facts.size)],
    ["Bit rate", facts.bit_rate != null ? `${Math.round(facts.bit_rate / 1000).toLocaleString("en")} kbit/s` : null],
    ["Picture", facts.video_codec],
    ["Sound", facts.audio_codec],
    ["Type", facts.mime],
    ["Profile", facts.profile ?? "none; devices may still play it"],
    ["Object id", id],
  ];
  return (
    <Card title={object.data.title}>
      {facts.kind === "picture" && <img src={file} alt={object.data.title} className="mb-3 max-h-72 w-full rounded-lg object-contain" />}
      {facts.kind === "video" && <video src={file} controls preload="metadata" className="mb-3 w-full rounded-lg" />}
      {facts.kind === "music" && <audio src={file} controls preload="metadata" className="mb-3 w-full" />}
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 text-sm">
        {rows.map(
          ([name, value]) =>
            value && (
              <div key={name} className="contents">
                <dt className="text-soft">{name}</dt>
                <dd className="break-all select-all">{value}</dd>
              </div>
            ),
        )}
      </dl>
    </Card>
  );
}
