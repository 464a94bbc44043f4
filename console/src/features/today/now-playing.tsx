// Who receives what, as plots over the last two minutes, and how busy the host is beside them.
import { useState } from "react";
import { api, type Stream, type StreamList } from "../../api/client";
import { useChange } from "../../api/queries";
import { Button, Trouble } from "../../components/basics";
import { Confirm } from "../../components/dialog";
import { bytes, length } from "../../lib/words";

/** Seconds that a plot shows. */
const SECONDS = 120;

/** Values by second as an area; the newest is at the right edge. */
function Plot({ values, most, label }: { values: number[]; most: number; label: string }) {
  const shown = values.slice(-SECONDS);
  const x = (n: number) => SECONDS - shown.length + n + 1;
  const y = (value: number) => 30 - (Math.min(value, most) / Math.max(most, 1)) * 28;
  const line = shown.map((value, n) => `${x(n)},${y(value).toFixed(1)}`).join(" ");
  return (
    <svg
      viewBox={`0 0 ${SECONDS} 30`}
      preserveAspectRatio="none"
      className="mt-1 h-8 w-full border-b border-line"
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
    </svg>
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
  const now = stream.paused ? "paused" : `${bytes(stream.rate)}/s`;
  return (
    <li className="py-3">
      <div className="flex items-start justify-between gap-3">
        <div className="min-w-0">
          <p className="font-bold break-words">{stream.title}</p>
          <p className="text-sm text-soft">
            {stream.label} · since {new Date(stream.since_ms).toLocaleTimeString([])}
          </p>
        </div>
        <Button onClick={() => setEnding(true)}>End</Button>
      </div>
      <Plot values={stream.history} most={Math.max(...stream.history, 1)} label={`${stream.title}: ${now}`} />
      <p className="mt-1 text-sm text-soft">
        {position(stream)} · now {now} · on average {bytes(stream.average)}/s · {bytes(stream.delivered)} in all
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
      <ul className="divide-y divide-line">
        {all.map((stream) => (
          <One key={stream.id} stream={stream} />
        ))}
      </ul>
      {all.length > 0 && host && (
        <div className="mt-3 grid grid-cols-2 gap-4 text-sm text-soft">
          <div>
            Processors {last(host.processor)} %
            <Plot values={host.processor} most={100} label={`Processors ${last(host.processor)} %`} />
          </div>
          <div>
            Busiest disk {last(host.disk)} %
            <Plot values={host.disk} most={100} label={`Busiest disk ${last(host.disk)} %`} />
          </div>
        </div>
      )}
    </>
  );
}
