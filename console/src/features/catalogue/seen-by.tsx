// The catalogue as a device gets it.
import { Link, useNavigate, useParams } from "react-router";
import { useDevices, useSeenBy } from "../../api/queries";
import { Card, Headline, Loading, Trouble } from "../../components/basics";
import { bytes, count } from "../../lib/words";

export function SeenBy() {
  const { device = "", id = "0" } = useParams();
  const devices = useDevices();
  const navigate = useNavigate();
  const seen = useSeenBy(Number(device), id);
  if (!devices.data) return devices.error ? <Trouble problem={devices.error} /> : <Loading />;
  const label = devices.data.find((one) => String(one.id) === device)?.label ?? "a device";
  return (
    <>
      <Headline below="The same grant, order, resources and page size as the device itself gets.">
        The catalogue, seen by {label}.
      </Headline>
      <label className="mb-4 flex flex-wrap items-center gap-2">
        <span>Seen by</span>
        <select
          className="min-h-11 rounded-lg border border-line bg-paper px-3"
          value={device}
          onChange={(event) => void navigate(`/seen-by/${event.target.value}`)}
        >
          {devices.data.map((one) => (
            <option key={one.id} value={one.id}>
              {one.label}
            </option>
          ))}
        </select>
      </label>
      <Card>
        {id !== "0" && (
          <Link className="inline-flex min-h-11 items-center text-accent underline" to={`/seen-by/${device}`}>
            Back to its first menu
          </Link>
        )}
        <Trouble problem={seen.error} />
        {seen.isPending && <Loading />}
        {seen.data && (
          <>
            <p className="mb-2 text-soft">
              {seen.data.standing === "admitted"
                ? `${seen.data.objects.length} of ${count(seen.data.total, "entry", "entries")} on its page`
                : `It is ${seen.data.standing}, so this is all it gets.`}
            </p>
            <ul className="divide-y divide-line">
              {seen.data.objects.map((object) => (
                <li key={object.id} className="py-2">
                  {object.container ? (
                    <Link
                      className="inline-flex min-h-11 items-center font-bold hover:underline"
                      to={`/seen-by/${device}/${object.id}`}
                    >
                      {object.title}
                      {object.child_count != null && (
                        <span className="ml-2 font-normal text-soft">{object.child_count}</span>
                      )}
                    </Link>
                  ) : (
                    <b>{object.title}</b>
                  )}
                  <p className="text-sm text-soft">{object.class}</p>
                  {object.resources.map((resource) => (
                    <p key={resource.url + resource.protocol_info} className="text-sm break-all text-soft">
                      {resource.protocol_info}
                      {resource.size != null && ` · ${bytes(resource.size)}`}
                    </p>
                  ))}
                </li>
              ))}
            </ul>
            <details className="mt-4">
              <summary className="min-h-11 cursor-pointer text-accent underline">The answer as it is sent</summary>
              <pre className="rounded bg-paper p-3 text-xs break-all whitespace-pre-wrap select-all">
                {seen.data.result}
              </pre>
            </details>
          </>
        )}
      </Card>
    </>
  );
}
