// Which device is asking now: of two that look alike, the one in front of you.
import { Link } from "react-router";
import { useActiveDevices } from "../../api/queries";
import { Card } from "../../components/basics";
import { ago } from "../../lib/words";

export function Asking() {
  const active = useActiveDevices();
  const devices = active.data ?? [];
  return (
    <Card title="Asking now">
      <div role="status">
        {devices.length === 0 && (
          <p className="text-soft">
            Nobody. Press something on the device in front of you, such as its menu of servers.
          </p>
        )}
        <ul className="divide-y divide-line">
          {devices.map(({ id, label, address, hardware, at_ms, what }) => (
            <li key={id} className="flex items-start gap-3 py-2">
              <span className="mt-1.5 size-3 shrink-0 rounded-full bg-accent motion-safe:animate-pulse" aria-hidden />
              <span className="min-w-0">
                <Link
                  className="inline-flex min-h-11 items-center font-bold text-accent underline"
                  to={`/devices/${id}`}
                >
                  {label}
                </Link>
                <span className="block text-sm break-words">
                  {what}, {ago(at_ms)}
                </span>
                <span className="block text-sm text-soft">{[address, hardware].filter(Boolean).join(" · ")}</span>
              </span>
            </li>
          ))}
        </ul>
      </div>
    </Card>
  );
}
