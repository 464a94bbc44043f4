// What every page has: a title for the window, focus after navigation, and a way on when it fails.
import { Component, useEffect, useRef, type ReactNode } from "react";
import { useLocation } from "react-router";
import { useStatus } from "../api/queries";
import { Button } from "./basics";

class Boundary extends Component<{ at: string; children: ReactNode }, { failed: boolean }> {
  override state = { failed: false };

  static getDerivedStateFromError() {
    return { failed: true };
  }

  override componentDidUpdate(before: { at: string }) {
    // Another page, or another thing on this one, may work.
    if (before.at !== this.props.at && this.state.failed) this.setState({ failed: false });
  }

  override render() {
    if (!this.state.failed) return this.props.children;
    return (
      <div role="alert" className="rounded-lg bg-brick-wash px-4 py-3 text-brick">
        <p className="font-bold">✕ This page failed.</p>
        <p>That is a defect of the console. The service goes on, and the other pages work.</p>
        <Button className="mt-3" onClick={() => this.setState({ failed: false })}>
          Try again
        </Button>
      </div>
    );
  }
}

/** Whether the window shows its first page: then the focus is where the browser puts it. */
let first = true;

/** A page. Whoever comes to it by a link is at its beginning, as after a full load. */
export function Page({ title, children }: { title: string; children: ReactNode }) {
  const { pathname } = useLocation();
  const begin = useRef<HTMLDivElement>(null);
  const off = useStatus().data?.house.off;
  useEffect(() => {
    document.title = `${off ? "OFF · " : ""}${title} · Mostra`;
  }, [title, off]);
  useEffect(() => {
    // Within a page, such as from device to device, the focus stays.
    if (!first) begin.current?.focus({ preventScroll: true });
    first = false;
  }, []);
  return (
    <div ref={begin} tabIndex={-1} className="outline-none">
      <Boundary at={pathname}>{children}</Boundary>
    </div>
  );
}
