// What is open to whom, and what of it is wider than it needs to be.
import { Link } from "react-router";
import { useExposure } from "../../api/queries";
import { Card, Headline, Loading, Trouble } from "../../components/basics";
import { Term } from "../../components/term";
import { capital, clock, count, inWords, KINDS } from "../../lib/words";

const kindNames = (kinds: string[]) =>
  kinds.length === KINDS.length
    ? "everything"
    : kinds.map((kind) => KINDS.find(([key]) => key === kind)?.[1].toLowerCase() ?? kind).join(", ");

export function Exposure() {
  const exposure = useExposure();
  if (!exposure.data) return exposure.error ? <Trouble problem={exposure.error} /> : <Loading />;
  const { listeners, folders, devices, accounts, wide, honest, doorway } = exposure.data;
  const sentence =
    wide.length === 0
      ? "Nothing is wider than it needs to be."
      : `${capital(inWords(wide.length))} ${wide.length === 1 ? "thing is" : "things are"} wider than needed.`;
  return (
    <>
      <Headline
        below={
          <>
            Devices that ask for the first time: <Term>doorway</Term> {doorway}.
          </>
        }
      >
        {sentence}
      </Headline>
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-2">
        {wide.length > 0 && (
          <Card title="Wider than it needs to be" className="lg:col-span-2">
            <ul className="divide-y divide-line">
              {wide.map(({ what, command }) => (
                <li key={what} className="py-3 first:pt-0 last:pb-0">
                  <p className="text-amber">⚠ {what}</p>
                  <code className="mt-1 block rounded bg-paper px-3 py-2 text-sm break-words select-all">
                    {command}
                  </code>
                </li>
              ))}
            </ul>
          </Card>
        )}
        <Card title="Devices that are let in">
          {devices.length === 0 && <p className="text-soft">None.</p>}
          <ul className="divide-y divide-line">
            {devices.map((device) => (
              <li key={device.id} className="py-2 first:pt-0 last:pb-0">
                <Link
                  className="inline-flex min-h-11 items-center font-bold hover:underline"
                  to={`/devices/${device.id}`}
                >
                  {device.label}
                </Link>
                <p className="text-sm">
                  {kindNames(device.kinds)}
                  {device.folders && ` in ${device.folders.join(", ")}`}
                </p>
                <p className="text-sm text-soft">
                  {device.by ? `let in by ${device.by}` : "who let it in is not recorded"}
                  {device.since_ms != null && `, ${clock(device.since_ms)}`}
                </p>
              </li>
            ))}
          </ul>
        </Card>
        <div className="space-y-5">
          <Card title="Where it can be reached">
            <ul className="divide-y divide-line text-sm">
              {listeners.map((listener) => (
                <li key={listener.address} className="py-2 first:pt-0 last:pb-0">
                  <b className="break-all select-all">{listener.address}</b>: {listener.what}
                  <span className="block text-soft">{listener.who}</span>
                </li>
              ))}
            </ul>
          </Card>
          <Card title="Folders">
            {folders.length === 0 && <p className="text-soft">None is published.</p>}
            <ul className="divide-y divide-line text-sm">
              {folders.map((folder) => (
                <li key={folder.root} className="py-2 first:pt-0 last:pb-0">
                  <b>{folder.label}</b>: {count(folder.devices, "device")}
                  <span className="block break-all text-soft">{folder.root}</span>
                </li>
              ))}
            </ul>
          </Card>
          <Card title="Accounts">
            <ul className="text-sm">
              {accounts.map((account) => (
                <li key={account.name}>
                  {account.name}: {count(account.sessions, "session")}
                </li>
              ))}
            </ul>
          </Card>
          <Card title="What a decision protects from">
            <p className="text-sm">{honest}</p>
          </Card>
        </div>
      </div>
    </>
  );
}
