// Accounts: who may sign in, and ending what somebody should have no longer.
import { useState } from "react";
import { api, type AccountSession, type AccountUse } from "../../api/client";
import { useAccounts, useChange, useSessions } from "../../api/queries";
import { Button, Card, Field, Loading, Trouble } from "../../components/basics";
import { Confirm } from "../../components/dialog";
import { ago, clock, count } from "../../lib/words";

export function Accounts() {
  const accounts = useAccounts();
  const [making, setMaking] = useState(false);
  if (!accounts.data)
    return (
      <Card id="accounts" title="Accounts">
        {accounts.error ? <Trouble problem={accounts.error} /> : <Loading />}
      </Card>
    );
  return (
    <Card id="accounts" title="Accounts">
      <p className="mb-3 text-soft">Each account may do everything that can be done here.</p>
      <ul className="divide-y divide-line border-y border-line">
        {accounts.data.map((account) => (
          <Account key={account.name} account={account} only={accounts.data.length === 1} />
        ))}
      </ul>
      <div className="mt-3">
        {making ? (
          <Make onDone={() => setMaking(false)} />
        ) : (
          <Button onClick={() => setMaking(true)}>Make an account</Button>
        )}
      </div>
      <Sessions />
    </Card>
  );
}

function Account({ account, only }: { account: AccountUse; only: boolean }) {
  const [changing, setChanging] = useState(false);
  const [removing, setRemoving] = useState(false);
  const remove = useChange(
    () => api.DELETE("/api/v1/accounts/{name}", { params: { path: { name: account.name } } }),
    ["accounts"],
  );
  const signOut = useChange(
    () => api.DELETE("/api/v1/accounts/{name}/sessions", { params: { path: { name: account.name } } }),
    ["accounts"],
  );
  return (
    <li className="py-3">
      <p>
        <b>{account.name}</b> {account.you && <span className="text-soft">you</span>} ·{" "}
        {account.sessions > 0 ? count(account.sessions, "session") : "not signed in"}
      </p>
      <div className="mt-2 flex flex-wrap gap-3">
        <Button onClick={() => setChanging(!changing)}>{changing ? "Cancel" : "Change the password"}</Button>
        {!account.you && account.sessions > 0 && (
          <Button onClick={() => signOut.mutate(undefined)} disabled={signOut.isPending}>
            Sign out everywhere
          </Button>
        )}
        {!only && (
          <Button look="danger" onClick={() => setRemoving(true)}>
            Remove
          </Button>
        )}
      </div>
      <Trouble problem={signOut.error} />
      {changing && <Change account={account} onDone={() => setChanging(false)} />}
      <Confirm
        open={removing}
        title={`Remove the account ${account.name}?`}
        yes="Remove it"
        busy={remove.isPending}
        problem={remove.error}
        onYes={() => remove.mutate(undefined, { onSuccess: () => setRemoving(false) })}
        onClose={() => setRemoving(false)}
      >
        Whoever uses it is signed out at once.{account.you ? " That is you." : ""}
      </Confirm>
    </li>
  );
}

function Change({ account, onDone }: { account: AccountUse; onDone: () => void }) {
  const [current, setCurrent] = useState("");
  const [password, setPassword] = useState("");
  const change = useChange(
    () =>
      api.PUT("/api/v1/accounts/{name}/password", {
        params: { path: { name: account.name } },
        body: account.you ? { password, current } : { password },
      }),
    ["accounts"],
  );
  return (
    <form
      className="mt-3 space-y-3"
      onSubmit={(event) => {
        event.preventDefault();
        change.mutate(undefined, { onSuccess: onDone });
      }}
    >
      {account.you && (
        <Field
          label="Current password"
          type="password"
          autoComplete="current-password"
          required
          autoFocus
          value={current}
          onChange={(e) => setCurrent(e.target.value)}
        />
      )}
      <Field
        label="New password"
        hint="At least 8 characters; other sessions of the account end"
        type="password"
        autoComplete="new-password"
        required
        minLength={8}
        value={password}
        onChange={(e) => setPassword(e.target.value)}
      />
      <Button look="main" type="submit" disabled={change.isPending}>
        Set it
      </Button>
      <Trouble problem={change.error} />
    </form>
  );
}

function Make({ onDone }: { onDone: () => void }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const make = useChange(async () => {
    const made = await api.POST("/api/v1/console/code");
    if (made.error) return made;
    return api.POST("/api/v1/accounts", { body: { name, password, code: made.data.code } });
  }, ["accounts"]);
  return (
    <form
      className="space-y-3"
      onSubmit={(event) => {
        event.preventDefault();
        make.mutate(undefined, { onSuccess: onDone });
      }}
    >
      <Field
        label="Account name"
        hint="Letters, digits, - _ or ."
        required
        maxLength={40}
        pattern="[\p{L}\p{N}][\p{L}\p{N}._\-]*"
        autoFocus
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      <Field
        label="Password"
        hint="At least 8 characters"
        type="password"
        autoComplete="new-password"
        required
        minLength={8}
        value={password}
        onChange={(e) => setPassword(e.target.value)}
      />
      <div className="flex gap-3">
        <Button look="main" type="submit" disabled={make.isPending}>
          Make it
        </Button>
        <Button onClick={onDone}>Back</Button>
      </div>
      <Trouble problem={make.error} />
    </form>
  );
}

function Sessions() {
  const sessions = useSessions();
  const end = useChange(
    (session: AccountSession) => api.DELETE("/api/v1/sessions/{id}", { params: { path: { id: session.id } } }),
    ["accounts"],
  );
  if (!sessions.data) return null;
  return (
    <>
      <h3 className="mt-5 mb-1 font-bold">Sessions</h3>
      <ul className="divide-y divide-line border-y border-line">
        {sessions.data.map((session) => (
          <li key={session.id} className="flex flex-wrap items-center justify-between gap-3 py-2">
            <span>
              {session.account}, {session.program ? "a program" : "a browser"}
              <span className="block text-sm text-soft">
                signed in {session.began_ms > 0 ? ago(session.began_ms) : "some time ago"}, until{" "}
                {clock(session.expires_ms)}
              </span>
            </span>
            {session.you ? (
              <span className="text-soft">this one</span>
            ) : (
              <Button onClick={() => end.mutate(session)}>End it</Button>
            )}
          </li>
        ))}
      </ul>
      <Trouble problem={end.error} />
    </>
  );
}
