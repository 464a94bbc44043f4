// What a device took of a piece, second by second, beside what the piece needs.
import type { Taking } from "../../api/client";
import { count } from "../../lib/words";

const WIDTH = 600;
const HEIGHT = 140;
/** Seconds that are shown at least. */
const SECONDS = 30;

const megabits = (bits: number) => (bits / 1e6).toFixed(bits < 1e6 ? 2 : 1);

export function Throughput({ taking }: { taking: Taking }) {
  const need = taking.need ?? 0;
  const shown = Math.max(taking.seconds.length, SECONDS);
  // What fills a player's store at first is far above the rest: it is cut.
  const most = Math.max(need * 3, 1);
  const height = (bytes: number) => Math.min((bytes * 8) / most, 1) * HEIGHT;
  const each = WIDTH / shown;
  const line = HEIGHT - (need / most) * HEIGHT;
  const stalls = taking.stalls === 0 ? "no gaps" : `${count(taking.stalls, "second")} without anything`;
  const told = `${megabits(taking.rate)} Mbit/s of ${megabits(need)} needed, ${stalls}`;
  return (
    <figure>
      <figcaption className="mb-1">
        <b>{taking.title}</b>
        <span className="block text-sm">{told}</span>
      </figcaption>
      <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} role="img" aria-label={`${taking.title}: ${told}`} className="w-full">
        {taking.seconds.map((bytes, second) => (
          <rect
            key={second}
            x={second * each + 0.5}
            y={HEIGHT - height(bytes)}
            width={Math.max(each - 1, 0.5)}
            height={height(bytes)}
            className={bytes * 8 < need * 0.5 ? "fill-amber" : "fill-accent"}
          />
        ))}
        <line x1={0} x2={WIDTH} y1={line} y2={line} strokeDasharray="8 6" strokeWidth={2} className="stroke-brick" />
        <line x1={0} x2={WIDTH} y1={HEIGHT} y2={HEIGHT} className="stroke-soft" />
      </svg>
      <p className="flex justify-between text-sm text-soft">
        <span>0 s</span>
        <span>
          <span aria-hidden className="text-brick">
            ┅┅
          </span>{" "}
          what the piece needs
        </span>
        <span>{shown} s</span>
      </p>
    </figure>
  );
}
