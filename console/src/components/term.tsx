// A term of the field, explained in one sentence at a touch.
import { Popover, PopoverButton, PopoverPanel } from "@headlessui/react";
import { useTerms } from "../api/queries";

/** The term as it stands in the text; `of` is its name in the glossary where that differs. */
export function Term({ children, of }: { children: string; of?: string }) {
  const terms = useTerms();
  const wanted = (of ?? children).toLowerCase();
  const found = terms.data?.find(({ term }) => term.toLowerCase() === wanted);
  if (!found) return <>{children}</>;
  return (
    <Popover className="inline">
      <PopoverButton
        className="cursor-help underline decoration-dotted underline-offset-4"
        aria-label={`${children}: what that is`}
      >
        {children}
      </PopoverButton>
      <PopoverPanel
        anchor={{ to: "bottom start", gap: 4, padding: 12 }}
        className="z-30 max-w-72 rounded-lg border border-line bg-sheet p-3 text-sm text-ink shadow-lg"
      >
        {found.means}
      </PopoverPanel>
    </Popover>
  );
}
