// Buttons, cards, headlines, errors.
import { Button as HeadlessButton } from "@headlessui/react";
import type { ComponentProps, ReactNode } from "react";
import type { Problem } from "../api/client";

type Look = "main" | "plain" | "danger";

const LOOKS: Record<Look, string> = {
  main: "bg-accent text-on-accent border-accent hover:brightness-110",
  plain: "bg-sheet border-line text-ink hover:bg-accent-wash",
  danger: "bg-sheet border-line text-brick hover:bg-brick-wash",
};

export function Button({ look = "plain", className = "", ...rest }: { look?: Look } & ComponentProps<"button">) {
  return (
    <HeadlessButton
      {...rest}
      className={`min-h-11 rounded-lg border px-4 py-2 disabled:opacity-50 ${LOOKS[look]} ${className}`}
    />
  );
}

export function Headline({ children, below }: { children: ReactNode; below?: ReactNode }) {
  return (
    <header className="mb-6">
      <h1 className="font-serif text-[26px] leading-tight text-balance sm:text-[30px]">{children}</h1>
      {below && <p className="mt-1 text-soft">{below}</p>}
    </header>
  );
}

export function Card({
  id,
  title,
  children,
  className = "",
}: {
  id?: string;
  title?: string;
  children: ReactNode;
  className?: string;
}) {
  return (
    <section id={id} className={`scroll-mt-4 rounded-card border border-line bg-sheet p-4 sm:p-5 ${className}`}>
      {title && <h2 className="mb-3 font-bold">{title}</h2>}
      {children}
    </section>
  );
}

/** What went wrong, why, and the next step; announced to readers. */
export function Trouble({ problem }: { problem: Problem | null | undefined }) {
  if (!problem) return null;
  return (
    <div role="alert" className="mt-3 rounded-lg bg-brick-wash px-4 py-3 text-brick">
      <p className="font-bold">✕ {problem.title}</p>
      {problem.detail && <p>{problem.detail}</p>}
      {problem.next && <p>{problem.next}</p>}
    </div>
  );
}

export function Field({ label, hint, ...rest }: { label: string; hint?: string } & ComponentProps<"input">) {
  return (
    <label className="block">
      <span className="font-bold">{label}</span>
      {hint && <span className="block text-sm text-soft">{hint}</span>}
      <input {...rest} className="mt-1 block min-h-11 w-full rounded-lg border border-line bg-paper px-3 py-2" />
    </label>
  );
}

export function Loading() {
  return (
    <p role="status" className="py-8 text-soft">
      Reading…
    </p>
  );
}
