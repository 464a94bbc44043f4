// Who receives what, as plots over the last two minutes, and how busy the host is beside them.
import { useState, type ReactNode } from "react";
import { api, type Stream, type StreamList } from "../../api/client";
import { useChange } from "../../api/queries";
import { Button, Trouble } from "../../components/basics";
import { Confirm } from "../../components/dialog";
import { bytes, clockTime, length } from "../../lib/words";

/** Seconds that a plot shows. */
const SECONDS = 120;

/** Values by second as an area; the newest is at the right edge. `need` is drawn as a dashed line. */
function Plot({ values, most, need, label }: { values: number[]; most: number; need?: number; label: string }) {
  const shown = values.slice(-SECONDS);
  const x = (n: number) => SECONDS - shown.length + n + 1;
  const y = (value: number) => 30 - (Math.min(value, most) / Math.max(most, 1)) * 28;
  const line = shown.map((value, n) => `${x(n)},${y(value).toFixed(1)}`).join(" ");
  return (
    <svg
      viewBox={`0 0 ${SECONDS} 30`}
      preserveAspectRatio="none"
      className="h-full w-full border-b border-l border-line"
      role="img"
      aria-label={label}
    >
      {shown.length > 0 && (
        <>
          <polygon points={`${x(0)},30 ${line} ${SECONDS},30`} className="fill-accent/20" />
          <polyline
            points={line}
            fill="none"
            vectorEffect="non-scaling-stroke"
            className="stroke-accent"
            strokeWidth="1.5"
          />
        </>
      )}
      {need != null && (
        <line
          x1={0}
          x2={SECONDS}
          y1={y(need)}
          y2={y(need)}
          vectorEffect="non-scaling-stroke"
          className="stroke-ink"
          strokeDasharray="5 4"
        />
      )}
    </svg>
  );
}

/** A plot with its axes: from nothing to `most` upwards, and the last two minutes to the right. */
function Axes({ top, children }: { top: string; children: ReactNode }) {
  return (
    <div className="mt-1 grid grid-cols-[4.5rem_1fr] gap-x-2 text-xs text-soft">
      <div className="flex h-16 flex-col justify-between text-right">
        <span>{top}</span>
        <span>0</span>
      </div>
      <div className="h-16">{children}</div>
      <span />
      <div className="flex justify-between">
        <span>{SECONDS / 60} minutes ago</span>
        <span>now</span>
      </div>
    </div>
  );
}

function position(stream: Stream): string {
  // A broadcast has no end, and so no place in it.
  if (stream.size === 0) return "live";
  const share = stream.position / stream.size;
  if (stream.duration_ms == null) return `${Math.round(share * 100)} %`;
  return `${length(share * stream.duration_ms)} of ${length(stream.duration_ms)}`;
}

function One({ stream }: { stream: Stream }) {
  const [ending, setEnding] = useState(false);
  const end = useChange(() => api.DELETE("/api/v1/streams/{id}", { params: { path: { id: stream.id } } }), ["streams"]);
  // What it must receive each second to be played as it comes.
  const need = stream.size > 0 && stream.duration_ms ? (stream.size * 1000) / stream.duration_ms : undefined;
  const most = Math.max(...stream.history, (need ?? 0) * 1.2, 1);
  const now = stream.paused ? "paused" : `${bytes(stream.rate)}/s`;
  return (
    <li className="py-3">
      <div className="flex items-start justify-between gap-3">
        <div className="min-w-0">
          <p className="font-bold break-words">{stream.title}</p>
          <p className="text-sm text-soft">
            {stream.label} · since {clockTime(stream.since_ms)}
          </p>
        </div>
        <Button onClick={() => setEnding(true)}>End</Button>
      </div>
      <Axes top={`${bytes(most)}/s`}>
        <Plot
          values={stream.history}
          most={most}
          need={need}
          label={`${stream.title}: ${now}${need != null ? `; it needs ${bytes(need)}/s` : ""}`}
        />
      </Axes>
      <p className="mt-1 text-sm text-soft">
        {position(stream)} · now {now} · on average {bytes(stream.average)}/s
        {need != null && ` · needs ${bytes(need)}/s (dashed)`} · {bytes(stream.delivered)} in all
      </p>
      <Trouble problem={end.error} />
      <Confirm
        open={ending}
        title={`End ${stream.title} on ${stream.label}?`}
        yes="End it"
        busy={end.isPending}
        problem={end.error}
        onYes={() => end.mutate(undefined, { onSuccess: () => setEnding(false) })}
        onClose={() => setEnding(false)}
      >
        The connection closes. Players come back at once, so this device does not get this item for a minute; its
        standing stays as it is.
      </Confirm>
    </li>
  );
}

export function NowPlaying({ streams }: { streams?: StreamList }) {
  const all = streams?.streams ?? [];
  const last = (values?: number[]) => Math.round(values?.at(-1) ?? 0);
  const host = streams?.host;
  return (
    <>
      <h2 className="mb-2 font-bold">Now showing</h2>
      {all.length === 0 && <p className="text-soft">No device is watching.</p>}
      {streams?.console?.map((playing) => (
        <p key={playing.account + playing.title} className="border-b border-line py-3">
          <b className="break-words">{playing.title}</b>
          <span className="block text-sm text-soft">
            in the console, by {playing.account} · since {clockTime(playing.since_ms)}
          </span>
        </p>
      ))}
      <ul className="divide-y divide-line">
        {all.map((stream) => (
          <One key={stream.id} stream={stream} />
        ))}
      </ul>
      {all.length > 0 && host && (
        <div className="mt-3 grid grid-cols-2 gap-4 text-sm text-soft">
          <div>
            Processors {last(host.processor)} %
            <Axes top="100 %">
              <Plot values={host.processor} most={100} label={`Processors ${last(host.processor)} %`} />
            </Axes>
          </div>
          <div>
            Busiest disk {last(host.disk)} %
            <Axes top="100 %">
              <Plot values={host.disk} most={100} label={`Busiest disk ${last(host.disk)} %`} />
            </Axes>
          </div>
        </div>
      )}
    </>
  );
}
