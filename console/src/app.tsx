// The frame around the pages, and who may see them.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { NavLink, Navigate, Route, Routes, useLocation } from "react-router";
import { api, keepAddressKeys, keepSecret } from "./api/client";
import { useDevices, useFolders, useLive, useStatus } from "./api/queries";
import { useArrivals } from "./lib/arrivals";
import { Button, Loading, Trouble } from "./components/basics";
import { Page } from "./components/page";
import { Catalogue } from "./features/catalogue/page";
import { SeenBy } from "./features/catalogue/seen-by";
import { Devices } from "./features/devices/page";
import { SignIn } from "./features/sign-in/page";
import { Folders } from "./features/folders/page";
import { Exposure } from "./features/exposure/page";
import { Network } from "./features/network/page";
import { Preflight } from "./features/preflight/page";
import { Handover } from "./features/handover/page";
import { Guide } from "./features/guide/page";
import { Settings } from "./features/settings/page";
import { Walkthroughs } from "./features/walkthrough/page";
import { Today } from "./features/today/page";

export function App() {
  const session = useQuery({
    queryKey: ["session"],
    queryFn: async () => {
      const { data, error, response } = await api.GET("/api/v1/session");
      if (response.status === 401) return null;
      if (error) throw error;
      keepAddressKeys(data.addresses ?? null);
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

/** All pages; those of a group have a link in the menu, those of the bar also at a phone's bottom edge. */
const PAGES = [
  { path: "/", title: "Today", link: "/", group: "Every day", bar: true, page: <Today /> },
  {
    path: "/catalogue/:id?",
    title: "Catalogue",
    link: "/catalogue",
    group: "Every day",
    bar: true,
    page: <Catalogue />,
  },
  { path: "/devices/:id?", title: "Devices", link: "/devices", group: "Every day", bar: true, page: <Devices /> },
  {
    path: "/walkthrough/:device?",
    title: "Walkthrough",
    link: "/walkthrough",
    group: "Set up",
    bar: false,
    page: <Walkthroughs />,
  },
  { path: "/handover", title: "Hand-over", link: "/handover", group: "Set up", bar: false, page: <Handover /> },
  { path: "/folders", title: "Folders", link: "/folders", group: "Set up", bar: true, page: <Folders /> },
  { path: "/network/:key?", title: "Network", link: "/network", group: "Set up", bar: true, page: <Network /> },
  {
    path: "/preflight",
    title: "Preflight",
    link: "/preflight",
    group: "Set up",
    bar: false,
    page: <Preflight />,
  },
  {
    path: "/exposure",
    title: "Open to whom",
    link: "/exposure",
    group: "Set up",
    bar: false,
    page: <Exposure />,
  },
  { path: "/settings", title: "Settings", link: "/settings", group: "Set up", bar: false, page: <Settings /> },
  { path: "/seen-by/:device/:id?", title: "Seen by", page: <SeenBy /> },
  { path: "/begin", title: "A new house", page: <Guide /> },
];

const GROUPS = ["Every day", "Set up"];

/** The menu: a list at the side, or on a phone a bar at the bottom edge with the rest behind *More*. */
function Menu({ waiting, onLeave }: { waiting: number; onLeave: () => void }) {
  const [more, setMore] = useState(false);
  const { pathname } = useLocation();
  const [before, setBefore] = useState(pathname);
  if (before !== pathname) {
    // Whoever has gone to a page needs the rest no more.
    setBefore(pathname);
    setMore(false);
  }
  const item = (bar: boolean) =>
    `${bar || more ? "flex" : "hidden"} min-h-12 items-center justify-center gap-1 border-t-[3px] md:flex md:min-h-11 md:justify-between md:gap-2 md:rounded-lg md:border-t-0 md:border-l-[3px] md:px-3 md:text-base ${
      bar ? "min-w-0 flex-1 px-0.5 text-xs" : "order-1 basis-full px-4 text-base"
    }`;
  return (
    <nav
      aria-label="Pages"
      className="fixed inset-x-0 bottom-0 z-20 flex flex-wrap-reverse border-t border-line bg-paper pb-[env(safe-area-inset-bottom)] md:static md:block md:border-0 md:p-0"
    >
      {GROUPS.map((group) => (
        <div key={group} className="contents md:mb-4 md:block">
          <p className="hidden px-3 pb-1 text-sm text-soft md:block">{group}</p>
          {PAGES.map(
            (page) =>
              page.group === group && (
                <NavLink
                  key={page.link}
                  to={page.link}
                  end={page.link === "/"}
                  className={({ isActive }) =>
                    `${item(page.bar)} ${isActive ? "border-accent font-bold md:bg-sheet" : "border-transparent hover:bg-sheet"}`
                  }
                >
                  {page.title}
                  {page.title === "Devices" && waiting > 0 && (
                    <span className="font-bold text-amber">
                      {waiting} <span className="sr-only">waiting</span>
                    </span>
                  )}
                </NavLink>
              ),
          )}
        </div>
      ))}
      <button
        className="min-h-12 flex-1 border-t-[3px] border-transparent px-0.5 text-xs md:hidden"
        aria-expanded={more}
        onClick={() => setMore(!more)}
      >
        {more ? "Less" : "More"}
      </button>
      <button className={`${item(false)} border-transparent text-left text-soft hover:underline`} onClick={onLeave}>
        Sign out
      </button>
    </nav>
  );
}

function Frame() {
  const connected = useLive();
  const status = useStatus();
  const folders = useFolders();
  useArrivals(useDevices().data);
  const client = useQueryClient();
  const location = useLocation();
  const waiting = status.data?.waiting ?? 0;
  // A house with its first name and nothing published has just been made: it is guided.
  const fresh = status.data?.house.name === "Mostra" && folders.data?.length === 0;
  if (fresh && location.pathname === "/") return <Navigate to="/begin" replace />;
  const leave = async () => {
    await api.DELETE("/api/v1/session");
    keepSecret(null);
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
        <Menu waiting={waiting} onLeave={() => void leave()} />
      </aside>
      <main id="page" tabIndex={-1} className="min-w-0 outline-none max-w-[1400px] p-4 pb-24 sm:p-7 sm:pb-24 md:pb-7">
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
