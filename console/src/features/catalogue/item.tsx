// One item: playing it in the browser where that can, its facts, and where the person stopped.
import { useEffect, useRef, useState } from "react";
import { address, type CatalogueObject } from "../../api/client";
import { useNotePosition, useObject } from "../../api/queries";
import { Button, Card, Loading, Trouble } from "../../components/basics";
import { CannotBeShown } from "./slideshow";
import { useTellPlaying, type Told } from "./playing";
import { bytes, count, length, taken } from "../../lib/words";

type Facts = NonNullable<CatalogueObject["facts"]>;

/** `goesOn`: begins by itself, as what was heard before has ended; `onEnd`: a track has ended. */
export function Item({ id, goesOn, onEnd }: { id: string; goesOn: boolean; onEnd: () => void }) {
  const object = useObject(id);
  const facts = object.data?.facts;
  if (!object.data || !facts) return <Card>{object.error ? <Trouble problem={object.error} /> : <Loading />}</Card>;
  return (
    <Card title={object.data.title}>
      <Player object={object.data} facts={facts} goesOn={goesOn} onEnd={onEnd} />
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 text-sm">
        {rows(id, facts).map(
          ([name, value], n) =>
            value && (
              <div key={n} className="contents">
                <dt className="text-soft">{name}</dt>
                <dd className="break-all select-all">{value}</dd>
              </div>
            ),
        )}
      </dl>
    </Card>
  );
}

function rows(id: string, facts: Facts): [string, string | null | undefined][] {
  const joined = (list?: string[]) => (list?.length ? list.join("; ") : null);
  const sound = (facts.audio ?? []).map((track): [string, string] => [
    "Sound",
    [
      track.codec,
      track.channels && count(track.channels, "channel"),
      track.sample_rate && `${track.sample_rate / 1000} kHz`,
      track.language,
    ]
      .filter(Boolean)
      .join(", "),
  ]);
  const subtitles = (facts.subtitles ?? []).map((track): [string, string] => [
    "Subtitles",
    [track.codec, track.language, track.file_name].filter(Boolean).join(", "),
  ]);
  return [
    ["Station", facts.station],
    ["File", facts.station ? null : facts.file_name],
    ["Artist", joined(facts.artists)],
    ["Album", facts.album],
    ["Album artist", facts.album_artist],
    ["Place", [facts.disc && `disc ${facts.disc}`, facts.track && `track ${facts.track}`].filter(Boolean).join(", ")],
    ["Genre", joined(facts.genres)],
    ["Composer", joined(facts.composers)],
    ["Episode", facts.episode],
    ["Date", facts.date && taken(facts.date)],
    ["Camera", facts.camera],
    ["Length", facts.duration_ms != null ? length(facts.duration_ms) : null],
    ["Resolution", facts.resolution],
    ["Frames", facts.frame_rate && `${facts.frame_rate} a second`],
    ["Size", facts.station ? null : bytes(facts.size)],
    ["Bit rate", facts.bit_rate != null ? `${Math.round(facts.bit_rate / 1000).toLocaleString("en")} kbit/s` : null],
    ["Picture", facts.video_codec],
    ...sound,
    ...subtitles,
    ["Type", facts.mime],
    ["Profile", facts.profile ?? "no DLNA profile matches; most players should still play it"],
    ["Object id", id],
  ];
}

/** Milliseconds between two notes of the position. */
const NOTE_EVERY = 10_000;

function Player({
  object,
  facts,
  goesOn,
  onEnd,
}: {
  object: CatalogueObject;
  facts: Facts;
  goesOn: boolean;
  onEnd: () => void;
}) {
  const file = address(`/catalogue/${object.id}/file`);
  const told = useTellPlaying(object.id);
  const [failed, setFailed] = useState(false);
  if (facts.kind === "picture") return <Still object={object} file={file} />;
  if (failed && facts.station) {
    return (
      <p className="mb-3 rounded-lg bg-accent-wash p-3">
        The station is not heard: it is off, its address has changed, or it leads to a host that is not allowed.{" "}
        <button type="button" onClick={() => setFailed(false)} className="min-h-11 text-accent underline">
          Try again
        </button>
      </p>
    );
  }
  if (failed) {
    return (
      <p className="mb-3 rounded-lg bg-accent-wash p-3">
        This browser does not play this file. Devices may.{" "}
        <a href={file} download={facts.file_name} className="text-accent underline">
          Save a copy
        </a>
      </p>
    );
  }
  if (facts.kind === "music") {
    return (
      <>
        {object.art && <img src={address(`${object.art}med`)} alt="" className="mb-3 max-h-56 rounded-lg" />}
        {/* Music has no captions. */}
        {/* eslint-disable-next-line jsx-a11y/media-has-caption */}
        <audio
          src={file}
          controls
          autoPlay={goesOn}
          preload="metadata"
          className="mb-3 w-full"
          onError={() => setFailed(true)}
          onEnded={onEnd}
          {...told}
        />
      </>
    );
  }
  return <Film object={object} facts={facts} file={file} told={told} onFail={() => setFailed(true)} />;
}

/** A picture as it is, else its medium form, which browsers always show. */
function Still({ object, file }: { object: CatalogueObject; file: string }) {
  const sources = [file, ...(object.art ? [address(`${object.art}med`)] : [])];
  const [failed, setFailed] = useState(0);
  const source = sources[failed];
  if (!source) return <CannotBeShown picture={object} />;
  return (
    <img
      src={source}
      alt={object.title}
      className="mb-3 max-h-72 w-full rounded-lg object-contain"
      onError={() => setFailed(failed + 1)}
    />
  );
}

function Film({
  object,
  facts,
  file,
  told,
  onFail,
}: {
  object: CatalogueObject;
  facts: Facts;
  file: string;
  told: Told;
  onFail: () => void;
}) {
  const note = useNotePosition(object.id);
  const noted = useRef(0);
  const film = useRef<HTMLVideoElement>(null);
  const stopped = object.position && !object.position.seen ? object.position.position_ms : 0;
  const [from] = useState(stopped);
  const tell = (seen: boolean) => {
    const at = Math.round((film.current?.currentTime ?? 0) * 1000);
    noted.current = Date.now();
    note.mutate({ position_ms: seen ? 0 : at, seen });
  };
  useEffect(() => {
    const player = film.current;
    if (player && from > 0) player.currentTime = from / 1000;
  }, [from]);
  const beside = (facts.subtitles ?? []).filter((track) => track.file_name);
  return (
    <>
      {/* Those that lie beside the film are its tracks. */}
      {/* eslint-disable-next-line jsx-a11y/media-has-caption */}
      <video
        ref={film}
        src={file}
        poster={object.art ? address(`${object.art}med`) : undefined}
        controls
        preload="metadata"
        className="mb-3 w-full rounded-lg"
        onError={onFail}
        onPlaying={told.onPlaying}
        onPause={() => {
          told.onPause();
          tell(false);
        }}
        onEnded={() => tell(true)}
        onTimeUpdate={() => Date.now() - noted.current > NOTE_EVERY && !film.current?.paused && tell(false)}
      >
        {beside.map((track, n) => (
          <track
            key={n}
            kind="subtitles"
            src={address(`/catalogue/${object.id}/captions/${n}`)}
            label={track.language ?? "Subtitles"}
            srcLang={track.language ?? undefined}
            default={n === 0}
          />
        ))}
      </video>
      <div className="mb-3 flex flex-wrap items-center gap-3 text-sm">
        {from > 0 && <span>Goes on at {length(from)}.</span>}
        {from > 0 && <Button onClick={() => film.current && (film.current.currentTime = 0)}>From the beginning</Button>}
        <Button onClick={() => note.mutate({ position_ms: 0, seen: !object.position?.seen })}>
          {object.position?.seen ? "Mark as not seen" : "Mark as seen"}
        </Button>
      </div>
    </>
  );
}
