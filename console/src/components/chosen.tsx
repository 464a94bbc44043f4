// What was chosen from a list: beside the list where there is room, below it on a phone.
import { useEffect, useRef, type ReactNode } from "react";
import { Button } from "./basics";

/**
 * On a phone it is as high as the screen from the first moment, so that it can be scrolled to while it
 * is still being read.
 *
 * Shows itself and takes the focus, and leads back to its row in the list, whose element has the id
 * `row`.
 */
export function Chosen({
  label,
  row,
  onBack,
  children,
}: {
  label: string;
  row: string;
  onBack: () => void;
  children: ReactNode;
}) {
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const shown = place.current;
    // Whoever goes on from one to the next stays on that button.
    if (!shown || shown.contains(document.activeElement)) return;
    shown.focus({ preventScroll: true });
    // Beside the list it is in sight already.
    if (shown.getBoundingClientRect().top > window.innerHeight / 2) shown.scrollIntoView({ block: "start" });
  }, [row]);
  const back = () => {
    onBack();
    const begun = document.getElementById(row);
    begun?.scrollIntoView({ block: "center" });
    begun?.focus({ preventScroll: true });
  };
  return (
    <div
      ref={place}
      tabIndex={-1}
      role="region"
      aria-label={label}
      className="min-h-screen scroll-mt-4 outline-none lg:min-h-0"
    >
      <Button className="mb-3 lg:hidden" onClick={back}>
        ‹ Back to the list
      </Button>
      {children}
    </div>
  );
}
