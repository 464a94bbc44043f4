// The first password, and signing in.
import { useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, keepSecret, type Problem, type Setup } from "../../api/client";
import { useSetup } from "../../api/queries";
import { Button, Card, Field, Headline, Loading, Trouble } from "../../components/basics";

export function SignIn() {
  const setup = useSetup();
  const [given] = useState(takeCode);
  const [joining, setJoining] = useState(given !== "");
  return (
    <main className="mx-auto max-w-lg px-4 py-10">
      <p className="mb-6 font-serif text-2xl font-semibold">Mostra</p>
      {setup.isPending && <Loading />}
      <Trouble problem={setup.error} />
      {setup.data && (
        <Form
          key={String(joining)}
          setup={setup.data}
          joining={joining}
          given={given}
          onJoin={() => setJoining(!joining)}
        />
      )}
    </main>
  );
}

/** The one-time code that came with the address, as a QR code has it; it leaves the address. */
function takeCode(): string {
  const code = /^#code=([\w-]+)$/.exec(window.location.hash)?.[1];
  if (code) window.history.replaceState(null, "", window.location.pathname);
  return code ?? "";
}

interface FormProperties {
  setup: Setup;
  joining: boolean;
  given: string;
  onJoin: () => void;
}

function Form({ setup, joining, given, onJoin }: FormProperties) {
  const client = useQueryClient();
  const first = setup.needed;
  const fresh = first || joining;
  const [name, setName] = useState(joining ? "" : "house");
  const [password, setPassword] = useState("");
  const [again, setAgain] = useState("");
  const [code, setCode] = useState(given);
  const [busy, setBusy] = useState(false);
  const [problem, setProblem] = useState<Problem | null>(null);
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    setProblem(null);
    const make = () => api.POST("/api/v1/accounts", { body: { name, password, code: code || null } });
    const { error } = fresh ? await make() : {};
    const signedIn = error ? null : await api.POST("/api/v1/session", { body: { name, password } });
    const failed = error ?? signedIn?.error;
    if (failed) {
      setProblem(failed);
      setBusy(false);
      return;
    }
    keepSecret(signedIn?.data?.page_secret ?? null);
    await client.invalidateQueries({ queryKey: ["session"] });
  };
  const differ = fresh && again !== "" && again !== password;
  return (
    <>
      <Headline below={first ? "Whoever has it may change what is published and who sees it." : undefined}>
        {first ? "This house is new. Make its first account." : joining ? "Make an account." : "Sign in to the house."}
      </Headline>
      <Card>
        <form onSubmit={submit} className="space-y-4">
          {!first && (
            <Field
              label="Name"
              autoComplete="username"
              value={name}
              autoFocus={!joining || given !== ""}
              onFocus={(e) => e.target.select()}
              onChange={(e) => setName(e.target.value)}
              required
            />
          )}
          {(joining || first) && (
            <Field
              label={first ? "Code of the first account" : "One-time code"}
              hint={
                first
                  ? "It stands in the service's log, and `mostrad account first` prints it on the host. Without it: `mostra login` there."
                  : "Run `mostra console code` on the host, and type what it shows."
              }
              value={code}
              onChange={(e) => setCode(e.target.value)}
              autoComplete="one-time-code"
              autoFocus={given === ""}
              required
            />
          )}
          <Field
            label="Password"
            hint={fresh ? "At least 8 characters." : undefined}
            type="password"
            autoComplete={fresh ? "new-password" : "current-password"}
            minLength={fresh ? 8 : undefined}
            value={password}
            onChange={(e) => setPassword(e.target.value)}
            required
          />
          {fresh && (
            <Field
              label="Password again"
              type="password"
              autoComplete="new-password"
              value={again}
              onChange={(e) => setAgain(e.target.value)}
              required
            />
          )}
          {differ && <p className="text-brick">✕ The two passwords differ.</p>}
          <Button look="main" type="submit" disabled={busy || (fresh && again !== password)}>
            {first ? "Begin" : joining ? "Make the account" : "Sign in"}
          </Button>
          <Trouble problem={problem} />
        </form>
      </Card>
      {!first && (
        <button className="mt-4 min-h-11 text-accent underline" onClick={onJoin}>
          {joining ? "Sign in instead" : "Make an account with a one-time code"}
        </button>
      )}
    </>
  );
}
