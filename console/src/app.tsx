// The frame around the pages, and who may see them.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { NavLink, Navigate, Route, Routes, useLocation } from "react-router";
import { api, keepToken } from "./api/client";
import { useFolders, useLive, useStatus } from "./api/queries";
import { Button, Loading, Trouble } from "./components/basics";
import { Page } from "./components/page";
import { Catalogue } from "./features/catalogue/page";
import { Devices } from "./features/devices/page";
import { SignIn } from "./features/sign-in/page";
import { Folders } from "./features/folders/page";
import { Guide } from "./features/guide/page";
import { Settings } from "./features/settings/page";
import { Today } from "./features/today/page";

export function App() {
  const session = useQuery({
    queryKey: ["session"],
    queryFn: async () => {
      const { data, error, response } = await api.GET("/api/v1/session");
      if (response.status === 401) return null;
      if (error) throw error;
      keepToken(data.csrf);
      return data;
    },
  });
  if (session.isPending) return <Loading />;
  if (session.error) {
    return (
      <main className="mx-auto max-w-lg p-6">
        <Trouble problem={session.error} />
        <Button className="mt-4" onClick={() => void session.refetch()}>
          Try again
        </Button>
      </main>
    );
  }
  return session.data ? <Frame /> : <SignIn />;
}

/** All pages; those with a place in the menu have a link there. */
const PAGES = [
  { path: "/", title: "Today", link: "/", page: <Today /> },
  { path: "/folders", title: "Folders", link: "/folders", page: <Folders /> },
  { path: "/catalogue/:id?", title: "Catalogue", link: "/catalogue", page: <Catalogue /> },
  { path: "/devices/:id?", title: "Devices", link: "/devices", page: <Devices /> },
  { path: "/settings", title: "Settings", link: "/settings", page: <Settings /> },
  { path: "/begin", title: "A new house", page: <Guide /> },
];

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
    await api.DELETE("/api/v1/session");
    client.clear();
    window.location.assign("/");
  };
  return (
    <div className="min-h-screen md:grid md:grid-cols-[208px_1fr]">
      <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:p-3">
        Skip to content
      </a>
      <aside className="border-line md:border-r md:p-4">
        <div className="px-4 pt-4 pb-2 md:px-2">
          <p className="font-serif text-xl font-semibold">Mostra</p>
          <p className="truncate text-sm text-soft">
            {status.data?.house.name} ·{" "}
            {!connected ? "not reachable" : status.data?.house.off ? <b className="text-amber">OFF</b> : "on"}
          </p>
        </div>
        <nav aria-label="Pages" className="flex flex-wrap gap-1 px-2 pb-2 md:flex-col md:px-0">
          {PAGES.map(
            ({ link, title }) =>
              link && (
                <NavLink
                  key={link}
                  to={link}
                  end={link === "/"}
                  className={({ isActive }) =>
                    `flex min-h-11 shrink-0 items-center justify-between gap-2 rounded-lg border-l-[3px] px-3 ${isActive ? "border-accent bg-sheet font-bold" : "border-transparent hover:bg-sheet"}`
                  }
                >
                  {title}
                  {title === "Devices" && waiting > 0 && (
                    <span className="font-bold text-amber">
                      {waiting} <span className="sr-only">waiting</span>
                    </span>
                  )}
                </NavLink>
              ),
          )}
          <button className="min-h-11 shrink-0 px-3 text-left text-soft hover:underline" onClick={() => void leave()}>
            Sign out
          </button>
        </nav>
      </aside>
      <main id="page" tabIndex={-1} className="min-w-0 outline-none max-w-[1400px] p-4 sm:p-7">
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
          {PAGES.map(({ path, title, page }) => (
            <Route
              key={path}
              path={path}
              element={
                <Page key={path} title={title}>
                  {page}
                </Page>
              }
            />
          ))}
          <Route path="*" element={<Navigate to="/" replace />} />
        </Routes>
      </main>
    </div>
  );
}
