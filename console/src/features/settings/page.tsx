// Name, doorway, and from where the console can be reached.
import { useState } from "react";
import { api, type House, type HouseChange } from "../../api/client";
import { useChange, useStatus } from "../../api/queries";
import { Accounts } from "./accounts";
import { Arrivals } from "./arrivals";
import { HouseFile } from "./house-file";
import { OpenConsole } from "./open-console";
import { Records } from "./records";
import { Service } from "./service";
import { Button, Card, Field, Headline, Loading, Trouble } from "../../components/basics";
import { Confirm } from "../../components/dialog";

/** The sections in their order, by the id of each. */
const SECTIONS = [
  ["house", "House"],
  ["arrivals", "When a device waits"],
  ["catalogue", "Catalogue"],
  ["stations", "Stations"],
  ["console", "Console in the house"],
  ["accounts", "Accounts"],
  ["network", "Where devices reach it"],
  ["records", "Records"],
  ["house-file", "House as a file"],
  ["service", "Service"],
] as const;

const DOORWAYS: Record<string, string> = {
  ask: "New devices wait for your decision.",
  open: "New devices are let in at once.",
  closed: "New devices are turned away.",
};

export function Settings() {
  const status = useStatus();
  const [name, setName] = useState<string | null>(null);
  const save = useChange((body: HouseChange) => api.PATCH("/api/v1/house", { body }), ["house"]);
  if (!status.data) return <Loading />;
  const { house, interfaces } = status.data;
  const shown = name ?? house.name;
  return (
    <>
      <Headline below={`Televisions show it as “${house.name}”.`}>{DOORWAYS[house.doorway]}</Headline>
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[12rem_minmax(0,42rem)]">
        <nav aria-label="Sections" className="lg:sticky lg:top-6">
          <ul className="flex flex-wrap gap-x-5 lg:block">
            {SECTIONS.map(([section, title]) => (
              <li key={section}>
                <a href={`#${section}`} className="flex min-h-11 items-center text-accent underline">
                  {title}
                </a>
              </li>
            ))}
          </ul>
        </nav>
        <div className="space-y-5">
          <Card id="house" title="House">
            <form
              className="space-y-4"
              onSubmit={(event) => {
                event.preventDefault();
                save.mutate({ name: shown }, { onSuccess: () => setName(null) });
              }}
            >
              <Field label="Name" value={shown} maxLength={63} required onChange={(e) => setName(e.target.value)} />
              <Button type="submit" disabled={shown === house.name || save.isPending}>
                Rename
              </Button>
            </form>
            <fieldset className="mt-5">
              <legend className="font-bold">New devices</legend>
              {[
                ["ask", "wait for a decision"],
                ["open", "are let in at once"],
                ["closed", "are turned away"],
              ].map(([doorway, words]) => (
                <label key={doorway} className="flex min-h-11 items-center gap-2">
                  <input
                    type="radio"
                    name="doorway"
                    className="size-5 accent-accent"
                    checked={house.doorway === doorway}
                    onChange={() => save.mutate({ doorway })}
                  />
                  {words}
                </label>
              ))}
            </fieldset>
            <Trouble problem={save.error} />
          </Card>
          <Arrivals />
          <CatalogueSettings house={house} />
          <Stations house={house} />
          <Card id="console" title="Console in the house">
            <OpenConsole />
          </Card>
          <Accounts />
          <Card id="network" title="Where devices reach the house">
            <ul>
              {interfaces.map((i) => (
                <li key={i.name}>
                  <span className="select-all">{i.address}</span> on {i.name}
                  {i.discovery_problem && (
                    <span className="block text-brick">✕ cannot be found there: {i.discovery_problem}</span>
                  )}
                </li>
              ))}
            </ul>
            {house.off && <p className="text-amber">Nowhere: the house is off. Switch it on under Today.</p>}
            {interfaces.length === 0 && !house.off && (
              <p className="text-brick">✕ No interface is connected; one that comes back is served by itself.</p>
            )}
            <p className="mt-3 text-sm break-all text-soft select-all">{house.udn}</p>
            <Appearance />
          </Card>
          <Records />
          <HouseFile />
          <Service />
        </div>
      </div>
    </>
  );
}

/** For players that do not search, and those that keep old listings. */
function Appearance() {
  const [asking, setAsking] = useState(false);
  const [done, setDone] = useState("");
  const announce = useChange(() => api.POST("/api/v1/house/announcement"), []);
  const renew = useChange(() => api.POST("/api/v1/house/renewal"), ["house"]);
  return (
    <>
      <div className="mt-4 flex flex-wrap gap-3">
        <Button
          disabled={announce.isPending}
          onClick={() =>
            announce.mutate(undefined, { onSuccess: () => setDone("The house was announced to players.") })
          }
        >
          Announce the house to players now
        </Button>
        <Button look="danger" onClick={() => setAsking(true)}>
          Reset how players know this server
        </Button>
      </div>
      <p role="status" className="mt-2 text-sm text-soft">
        {done}
      </p>
      <Trouble problem={announce.error} />
      <Confirm
        open={asking}
        title="Reset how players know this server?"
        yes="Reset"
        busy={renew.isPending}
        problem={renew.error}
        onYes={() =>
          renew.mutate(undefined, {
            onSuccess: () => {
              setAsking(false);
              setDone("Players see a new server now.");
            },
          })
        }
        onClose={() => setAsking(false)}
      >
        The last resort for players that go on showing old listings. They forget this server, with the places and
        favourites that they keep of it, and find a new one. Devices keep their standing here.
      </Confirm>
    </>
  );
}

/** The hosts from which stations of playlists are passed on. */
function Stations({ house }: { house: House }) {
  const [host, setHost] = useState("");
  const allowed = house.stations ?? [];
  const save = useChange(
    (stations: string[]) => api.PATCH("/api/v1/house", { body: { stations } }),
    ["house", "folders", "catalogue"],
  );
  return (
    <Card id="stations" title="Stations">
      <p className="text-sm text-soft">
        Playlists may list stations on the internet. The house passes on those whose host you allow, and connects to no
        other.
      </p>
      <ul className="mt-2">
        {allowed.map((one) => (
          <li key={one} className="flex flex-wrap items-center gap-3">
            <span className="break-all">{one}</span>
            <Button onClick={() => save.mutate(allowed.filter((other) => other !== one))}>Forbid</Button>
          </li>
        ))}
        {allowed.length === 0 && <li>No host is allowed: stations are left out.</li>}
      </ul>
      <form
        className="mt-2 flex flex-wrap items-end gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate([...allowed, host], { onSuccess: () => setHost("") });
        }}
      >
        <Field
          label="Host"
          placeholder="radio.example"
          value={host}
          onChange={(event) => setHost(event.target.value)}
          required
        />
        <Button type="submit" disabled={save.isPending}>
          Allow
        </Button>
      </form>
      <Trouble problem={save.error} />
    </Card>
  );
}

/** Languages with an alphabet of their own by name, behind the one for all others. */
function alphabets(locales: string[]): [string, string][] {
  const names = new Intl.DisplayNames(["en"], { type: "language" });
  const own = locales
    .filter((locale) => locale !== "en")
    .map((locale): [string, string] => [locale, names.of(locale) ?? locale]);
  return [["en", "English and others (accents ignored)"], ...own.sort((a, b) => a[1].localeCompare(b[1]))];
}

/** How titles and pictures stand, and MIME types that a person set. */
function CatalogueSettings({ house }: { house: House }) {
  const [extension, setExtension] = useState("");
  const [mime, setMime] = useState("");
  const save = useChange((body: HouseChange) => api.PATCH("/api/v1/house", { body }), ["house", "catalogue"]);
  const choice = (label: string, value: string, options: [string, string][], name: string) => (
    <label className="block">
      <span className="font-bold">{label}</span>
      <select
        value={value}
        onChange={(event) => save.mutate({ [name]: event.target.value })}
        className="mt-1 block min-h-11 w-full rounded-lg border border-line bg-paper px-3"
      >
        {options.map(([word, words]) => (
          <option key={word} value={word}>
            {words}
          </option>
        ))}
      </select>
    </label>
  );
  return (
    <Card id="catalogue" title="Catalogue">
      <div className="space-y-4">
        {choice(
          "Titles come from",
          house.titles,
          [
            ["embedded", "inside the files, where they have one"],
            ["file-names", "the files’ names"],
          ],
          "titles",
        )}
        {choice(
          "Sort pictures by",
          house.picture_order,
          [
            ["date", "the date taken"],
            ["title", "title"],
          ],
          "picture_order",
        )}
        {choice("Sort names as in", house.locale ?? "en", alphabets(house.locales ?? []), "locale")}
        <div>
          <p className="font-bold">MIME types by extension</p>
          <p className="text-sm text-soft">
            For a device that plays a file only under another type than the usual one.
          </p>
          <ul>
            {Object.entries(house.mimes).map(([one, type]) => (
              <li key={one} className="flex flex-wrap items-center gap-3">
                <span>
                  .{one} as {type}
                </span>
                <Button
                  onClick={() =>
                    save.mutate({
                      mimes: Object.fromEntries(Object.entries(house.mimes).filter(([other]) => other !== one)),
                    })
                  }
                >
                  Use the usual one
                </Button>
              </li>
            ))}
          </ul>
          <form
            className="mt-2 flex flex-wrap items-end gap-3"
            onSubmit={(event) => {
              event.preventDefault();
              save.mutate(
                { mimes: { ...house.mimes, [extension]: mime } },
                {
                  onSuccess: () => {
                    setExtension("");
                    setMime("");
                  },
                },
              );
            }}
          >
            <Field
              label="Extension"
              placeholder="mkv"
              value={extension}
              onChange={(event) => setExtension(event.target.value)}
              required
            />
            <Field
              label="MIME type"
              placeholder="video/x-mkv"
              value={mime}
              onChange={(event) => setMime(event.target.value)}
              required
            />
            <Button type="submit" disabled={save.isPending}>
              Set
            </Button>
          </form>
        </div>
        <Trouble problem={save.error} />
      </div>
    </Card>
  );
}
