// The console on the house's network: opening it, and how somebody there gets in.
import { QRCodeSVG } from "qrcode.react";
import { useState } from "react";
import { api, type Code } from "../../api/client";
import { useAccess, useChange } from "../../api/queries";
import { Button, Loading, Trouble } from "../../components/basics";
import { day } from "../../lib/words";

export function OpenConsole() {
  const access = useAccess();
  const [code, setCode] = useState<Code | null>(null);
  const change = useChange((open: boolean) => api.PUT("/api/v1/console", { body: { open } }), ["house"]);
  const make = useChange(async () => {
    const answer = await api.POST("/api/v1/console/code");
    if (answer.data) setCode(answer.data);
    return answer;
  }, []);
  if (!access.data) return <Loading />;
  const first = access.data.addresses?.[0];
  if (!access.data.open) {
    return (
      <>
        <p className="mb-3">Opened, the console answers on the house&rsquo;s network by TLS, with a login.</p>
        <Button onClick={() => change.mutate(true)} disabled={change.isPending}>
          Open the console to the house
        </Button>
        <Trouble problem={change.error} />
      </>
    );
  }
  return (
    <div className="space-y-3">
      <p>
        Open at{" "}
        {access.data.addresses?.map((address) => (
          <b key={address} className="mr-2 break-all select-all">
            {address}
          </b>
        ))}
      </p>
      <p className="text-sm">
        The browser there warns once, since the certificate is the house&rsquo;s own
        {access.data.certificate_ends_ms ? `, until ${day(access.data.certificate_ends_ms)}` : ""}. Its SHA-256 must be
        <code className="block break-all text-soft select-all">{access.data.fingerprint}</code>
      </p>
      {code && (
        <p role="status">
          One-time code for one account: <b className="text-xl tracking-widest select-all">{code.code}</b> (
          {Math.round(code.seconds / 60)} minutes)
        </p>
      )}
      {first && (
        <figure>
          {/* White around it whatever the theme: cameras need it. */}
          <QRCodeSVG
            value={code ? `${first}/#code=${code.code}` : `${first}/`}
            size={176}
            marginSize={4}
            title={`QR code of ${first}`}
          />
          <figcaption className="mt-1 text-sm text-soft">
            {code
              ? "A phone that reads this opens the console with the code filled in."
              : "A phone that reads this opens the console."}
          </figcaption>
        </figure>
      )}
      {access.data.addresses?.length === 0 && (
        <p className="text-amber">No interface is connected. The console answers on one that comes back.</p>
      )}
      <div className="flex flex-wrap gap-3">
        <Button onClick={() => make.mutate(undefined)}>Show a one-time code</Button>
        <Button look="danger" onClick={() => change.mutate(false)} disabled={change.isPending}>
          Close it again
        </Button>
      </div>
      <Trouble problem={change.error ?? make.error} />
    </div>
  );
}
