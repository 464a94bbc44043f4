// What is on the network: things found, and devices that asked.
import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/react";
import { Link, useNavigate, useParams } from "react-router";
import { address, api, type NetworkThing, type NetworkView } from "../../api/client";
import { useChange, useNetwork } from "../../api/queries";
import { Button, Card, Headline, Loading, Trouble } from "../../components/basics";
import { Chosen } from "../../components/chosen";
import { LongList } from "../../components/long-list";
import { ago, capital, count, inWords } from "../../lib/words";
import { StandingMark } from "../devices/standing";
import { Detail, presenceWords } from "./thing";

/** Whether it has to do with media. */
const isMedia = (thing: NetworkThing) => thing.roles.some((role) => ["renderer", "server", "player"].includes(role));

function sentence({ things }: NetworkView): string {
  const media = things.filter(isMedia);
  if (media.length === 0) return "Nothing that has to do with media was found yet.";
  const silent = media.filter((thing) => thing.devices.length === 0).length;
  const found = `${capital(inWords(media.length))} ${media.length === 1 ? "thing that has" : "things that have"} to do with media`;
  if (silent === 0) return `${found}; ${media.length === 1 ? "it has" : "all have"} asked this house.`;
  return `${found}; ${inWords(silent)} ${silent === 1 ? "has" : "have"} not asked this house.`;
}

const byName = (a: NetworkThing, b: NetworkThing) => a.label.localeCompare(b.label);
const number = (address: string) => address.split(".").reduce((sum, part) => sum * 256 + Number(part), 0);

const SORTS = [
  { word: "order found" },
  { word: "name", compare: byName },
  { word: "address", compare: (a: NetworkThing, b: NetworkThing) => number(a.address) - number(b.address) },
  { word: "last heard", compare: (a: NetworkThing, b: NetworkThing) => b.last_ms - a.last_ms },
];

const textOf = (thing: NetworkThing) =>
  [
    thing.label,
    thing.address,
    thing.hardware,
    ...thing.roles,
    ...thing.devices.map((device) => device.standing),
    ...thing.found.flatMap((found) => [found.name, found.maker, found.model]),
  ].join(" ");

export function Network() {
  const network = useNetwork();
  const { key } = useParams();
  const navigate = useNavigate();
  if (!network.data) return network.error ? <Trouble problem={network.error} /> : <Loading />;
  const { things, outsiders, dropped } = network.data;
  const named = (thing: NetworkThing) => thing.key === key || thing.found.some((found) => `n${found.id}` === key);
  const chosen = things.find(named);
  const media = things.filter(isMedia);
  const apart = things.filter((thing) => !isMedia(thing));
  const list = (label: string, items: NetworkThing[]) => (
    <LongList
      label={label}
      word="thing"
      items={items}
      keyOf={(thing) => thing.key}
      textOf={textOf}
      sorts={SORTS}
      row={(thing) => <Row thing={thing} current={thing === chosen} />}
    />
  );
  return (
    <>
      <Headline below={<Search view={network.data} />}>{sentence(network.data)}</Headline>
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[5fr_4fr]">
        <div className="space-y-5">
          <Card>
            {media.length > 0 ? (
              list("things that have to do with media", media)
            ) : (
              <p className="text-soft">
                Televisions and speakers appear here by themselves, a few seconds after they are switched on in the same
                network as this host.
              </p>
            )}
            {dropped > 0 && (
              <p className="mt-3 text-amber">
                ⚠ {count(dropped, "announcement")} found no room: more devices announce themselves than a house has.
              </p>
            )}
          </Card>
          {apart.length > 0 && (
            <Disclosure as={Card}>
              {({ open }) => (
                <>
                  <DisclosureButton className="min-h-11 text-accent underline">
                    {open ? "Hide" : "Show"} {count(apart.length, "router or other thing", "routers and other things")}
                  </DisclosureButton>
                  <DisclosurePanel className="mt-2">{list("routers and other things", apart)}</DisclosurePanel>
                </>
              )}
            </Disclosure>
          )}
          {outsiders.length > 0 && (
            <Card title="Asked from elsewhere">
              <ul className="divide-y divide-line text-sm">
                {outsiders.map((outsider) => (
                  <li key={outsider.what} className="py-2 first:pt-0 last:pb-0">
                    {outsider.what}
                    <span className="block text-soft">
                      {ago(outsider.last_ms)} · {count(outsider.times, "time")}
                    </span>
                  </li>
                ))}
              </ul>
            </Card>
          )}
        </div>
        {chosen && (
          <Chosen
            key={chosen.key}
            label={chosen.label}
            row={`thing-${chosen.key}`}
            onBack={() => void navigate("/network")}
          >
            <Detail thing={chosen} />
          </Chosen>
        )}
      </div>
    </>
  );
}

function Search({ view }: { view: NetworkView }) {
  const search = useChange(() => api.POST("/api/v1/network/search"), ["network"]);
  const { last_ms, running } = view.search;
  const words =
    last_ms == null
      ? "Nothing was searched for yet."
      : running
        ? "Searching: answers come within four seconds."
        : `Last search ${ago(last_ms)}.`;
  return (
    <>
      <span className="flex flex-wrap items-center gap-3">
        <span role="status">{words}</span>
        <Button disabled={running || search.isPending} onClick={() => search.mutate(undefined)}>
          Search again
        </Button>
      </span>
      <Trouble problem={search.error} />
    </>
  );
}

function Row({ thing, current }: { thing: NetworkThing; current: boolean }) {
  const { maker, model } = thing.found[0] ?? {};
  const made = [maker, model].filter(Boolean).join(" ");
  const icon = thing.found.find((found) => found.icon);
  return (
    <div className="flex items-center gap-3">
      {icon ? (
        <img src={address(`/network/found/${icon.id}/icon`)} alt="" className="size-10 shrink-0 rounded" />
      ) : (
        <span aria-hidden className="size-10 shrink-0 rounded bg-accent-wash text-center leading-10 text-accent">
          {thing.label.charAt(0)}
        </span>
      )}
      <div className="min-w-0 grow">
        <Link
          id={`thing-${thing.key}`}
          to={`/network/${thing.key}`}
          className="flex min-h-11 flex-wrap items-center gap-x-3 gap-y-1 font-bold hover:underline"
          aria-current={current ? "true" : undefined}
        >
          {thing.label}
          {thing.devices.map((device) => (
            <StandingMark key={device.id} standing={device.standing} />
          ))}
        </Link>
        <p className="text-sm">
          {thing.roles.join(", ")}
          {made && ` · ${made}`}
          {thing.devices.length === 0 && isMedia(thing) && " · has not asked"}
        </p>
        <p className="text-sm text-soft">
          {thing.this_computer ? "this computer" : thing.address} · {presenceWords(thing)}
        </p>
      </div>
    </div>
  );
}
