// The house as a file, and an archive for whoever helps.
import { useRef, useState } from "react";
import { address, api, type AppliedHouse, type Problem } from "../../api/client";
import { Button, Card, Trouble } from "../../components/basics";
import { count } from "../../lib/words";

const link = "inline-flex min-h-11 items-center rounded-lg border border-line bg-sheet px-4 py-2 hover:bg-accent-wash";

const send = (text: string, plan: boolean) =>
  api.POST("/api/v1/house/file", {
    params: { query: { plan } },
    body: text,
    bodySerializer: (body: string) => body,
    headers: { "Content-Type": "text/plain" },
  });

export function HouseFile() {
  const [chosen, setChosen] = useState<string | null>(null);
  const [came, setCame] = useState<AppliedHouse | null>(null);
  const [problem, setProblem] = useState<Problem | null>(null);
  const file = useRef<HTMLInputElement>(null);
  const run = async (text: string, plan: boolean) => {
    setProblem(null);
    const { data, error } = await send(text, plan);
    setCame(data ?? null);
    setProblem(error ?? null);
    setChosen(plan && data ? text : null);
  };
  return (
    <Card id="house-file" title="The house as a file">
      <p className="text-sm text-soft">
        Everything that was decided, as one readable document: folders, devices and what they may see, presets,
        settings. Applied to another house, that is decided the same. What a document does not name stays as it is.
      </p>
      <div className="mt-3 flex flex-wrap gap-3">
        <a className={link} href={address("/house/file")} download="house.toml">
          Fetch the document
        </a>
        <Button onClick={() => file.current?.click()}>Compare a document…</Button>
        <input
          ref={file}
          type="file"
          accept=".toml,text/plain"
          className="hidden"
          aria-label="A house as a document"
          onChange={(event) => {
            const picked = event.target.files?.[0];
            event.target.value = "";
            if (picked) void picked.text().then((text) => run(text, true));
          }}
        />
      </div>
      <Trouble problem={problem} />
      {came && came.changes.length === 0 && (
        <p role="status" className="mt-3">
          Nothing changes: the house is as the document says.
        </p>
      )}
      {came && came.changes.length > 0 && (
        <div className="mt-3">
          <p className="font-bold">
            {came.applied ? "Changed" : `It would change ${count(came.changes.length, "thing")}`}:
          </p>
          <ul className="mt-1 divide-y divide-line">
            {came.changes.map((change) => (
              <li key={change.what} className="py-2 break-words">
                <b>{change.what}</b>: {change.before && <s className="text-soft">{change.before}</s>} {change.after}
              </li>
            ))}
          </ul>
          {came.failed.map(({ what, why }) => (
            <p key={what} className="text-brick">
              ✕ {what}: {why}
            </p>
          ))}
          {!came.applied && chosen !== null && (
            <div className="mt-3 flex flex-wrap gap-3">
              <Button look="main" onClick={() => void run(chosen, false)}>
                Apply it
              </Button>
              <Button onClick={() => setCame(null)}>Leave it</Button>
            </div>
          )}
        </div>
      )}
      <h3 className="mt-5 font-bold">For whoever helps</h3>
      <p className="text-sm text-soft">
        One archive with versions, preflight, settings, devices, walkthroughs, sightings and the log. It holds no media
        and no passwords, but names, addresses and titles; README.txt in it says what is where.
      </p>
      <a className={`mt-3 ${link}`} href={address("/support")} download="mostra-support.tar">
        Fetch the archive
      </a>
    </Card>
  );
}
