// The frame around the pages, and who may see them.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { NavLink, Navigate, Route, Routes, useLocation } from "react-router";
import { call, get, Problem, keepToken, type Session } from "./api/client";
import { useFolders, useLive, useStatus } from "./api/queries";
import { Button, Loading, Trouble } from "./parts/basics";
import { Catalogue } from "./pages/catalogue";
import { Devices } from "./pages/devices";
import { Enter } from "./pages/enter";
import { Folders } from "./pages/folders";
import { Guide } from "./pages/guide";
import { Settings } from "./pages/settings";
import { Today } from "./pages/today";

export function App() {
  const session = useQuery({
    queryKey: ["session"],
    queryFn: async () => {
      try {
        const session = await get<Session>("/session");
        keepToken(session.csrf);
        return session;
      } catch (error) {
        if (error instanceof Problem && error.status === 401) return null;
        throw error;
      }
    },
  });
  if (session.isPending) return <Loading />;
  if (session.error) {
    return (
      <main className="mx-auto max-w-lg p-6">
        <Trouble problem={session.error as Problem} />
        <Button className="mt-4" onClick={() => void session.refetch()}>
          Try again
        </Button>
      </main>
    );
  }
  return session.data ? <Frame /> : <Enter />;
}

const PAGES = [
  ["/", "Today"],
  ["/folders", "Folders"],
  ["/catalogue", "Catalogue"],
  ["/devices", "Devices"],
  ["/settings", "Settings"],
] as const;

function Frame() {
  const connected = useLive();
  const status = useStatus();
  const folders = useFolders();
  const client = useQueryClient();
  const location = useLocation();
  const waiting = status.data?.waiting ?? 0;
  // A house with its first name and nothing published has just been made: it is guided.
  const fresh = status.data?.house.name === "Mostra" && folders.data?.length === 0;
  if (fresh && location.pathname === "/") return <Navigate to="/begin" replace />;
  const leave = async () => {
    await call("DELETE", "/session").catch(() => undefined);
    client.clear();
    window.location.assign("/");
  };
  return (
    <div className="min-h-screen md:grid md:grid-cols-[208px_1fr]">
      <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:p-3">
        To the page
      </a>
      <aside className="border-line md:border-r md:p-4">
        <div className="px-4 pt-4 pb-2 md:px-2">
          <p className="font-serif text-xl font-semibold">Mostra</p>
          <p className="truncate text-sm text-soft">
            {status.data?.house.name} · {connected ? "on" : "not reachable"}
          </p>
        </div>
        <nav aria-label="Pages" className="flex flex-wrap gap-1 px-2 pb-2 md:flex-col md:px-0">
          {PAGES.map(([path, name]) => (
            <NavLink
              key={path}
              to={path}
              end={path === "/"}
              className={({ isActive }) =>
                `flex min-h-11 shrink-0 items-center justify-between gap-2 rounded-lg border-l-[3px] px-3 ${isActive ? "border-accent bg-sheet font-bold" : "border-transparent hover:bg-sheet"}`
              }
            >
              {name}
              {name === "Devices" && waiting > 0 && (
                <span className="font-bold text-amber" aria-label={`${waiting} waiting`}>
                  {waiting}
                </span>
              )}
            </NavLink>
          ))}
          <button className="min-h-11 shrink-0 px-3 text-left text-soft hover:underline" onClick={() => void leave()}>
            Sign out
          </button>
        </nav>
      </aside>
      <main id="page" className="min-w-0 max-w-[1400px] p-4 sm:p-7">
        {!connected && (
          <p role="alert" className="mb-4 rounded-lg bg-amber-wash px-4 py-3 text-amber">
            ⚠ The service does not answer. What you see may be out of date; this page goes on by itself when it is back.
          </p>
        )}
        {status.data && !status.data.records && (
          <p role="alert" className="mb-4 rounded-lg bg-amber-wash px-4 py-3 text-amber">
            ⚠ PostgreSQL does not answer. Watching goes on; changes cannot be saved until it is back.
          </p>
        )}
        <Routes>
          <Route path="/" element={<Today />} />
          <Route path="/begin" element={<Guide />} />
          <Route path="/folders" element={<Folders />} />
          <Route path="/catalogue/:id?" element={<Catalogue />} />
          <Route path="/devices/:id?" element={<Devices />} />
          <Route path="/settings" element={<Settings />} />
          <Route path="*" element={<Navigate to="/" replace />} />
        </Routes>
      </main>
    </div>
  );
}
