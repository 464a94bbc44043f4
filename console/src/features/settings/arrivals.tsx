// How people learn that a device waits: by a notification of this browser, and by a program in the house.
import { useState } from "react";
import { api } from "../../api/client";
import { useChange, useWebhook } from "../../api/queries";
import { Button, Card, Field, Trouble } from "../../components/basics";
import { notifies, setNotifies } from "../../lib/arrivals";
import { ago } from "../../lib/words";

export function Arrivals() {
  const webhook = useWebhook();
  const [on, setOn] = useState(notifies());
  const [url, setUrl] = useState<string | null>(null);
  const save = useChange((to: string) => api.PUT("/api/v1/webhook", { body: { url: to } }), ["house"]);
  const supported = "Notification" in window;
  const shown = url ?? webhook.data?.url ?? "";
  const last = webhook.data?.last;
  const ask = async () => {
    const wanted = !on && (await Notification.requestPermission()) === "granted";
    setNotifies(wanted);
    setOn(wanted);
  };
  return (
    <Card id="arrivals" title="When a device waits">
      <p>Today and Devices show it at once.</p>
      <label className="mt-2 flex min-h-11 items-center gap-2">
        <input
          type="checkbox"
          className="size-5 accent-accent"
          checked={on}
          disabled={!supported}
          onChange={() => void ask()}
        />
        Tell me by a notification of this browser while the console is open in it
      </label>
      {(!supported || (supported && Notification.permission === "denied")) && (
        <p className="text-sm text-soft">
          This browser does not allow it here: its settings for this page say so, or the page was not opened on this
          host or by TLS.
        </p>
      )}
      <form
        className="mt-4 space-y-3"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate(shown, { onSuccess: () => setUrl(null) });
        }}
      >
        <Field
          label="Tell a program in the house"
          hint="It gets JSON by POST, three times at most until it takes it; only addresses of the local network."
          placeholder="http://192.168.1.5:8000/mostra"
          value={shown}
          onChange={(event) => setUrl(event.target.value)}
        />
        <Button type="submit" disabled={url === null || save.isPending}>
          Keep
        </Button>
      </form>
      <Trouble problem={save.error} />
      {last && (
        <p className={`mt-2 text-sm ${last.problem ? "text-brick" : "text-soft"}`}>
          The last one, {ago(last.at_ms)}, {last.problem ? `failed: ${last.problem}` : "was taken"}.
        </p>
      )}
    </Card>
  );
}
