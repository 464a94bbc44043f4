// The one shell of dialogs, and a question before what cannot be undone.
import { Dialog as Shell, DialogPanel, DialogTitle } from "@headlessui/react";
import type { ReactNode } from "react";
import type { Problem } from "../api/client";
import { Button, Trouble } from "./basics";

/** A dialog in the middle of the page. */
export function Dialog({
  open = true,
  title,
  onClose,
  children,
}: {
  open?: boolean;
  title: string;
  onClose: () => void;
  children: ReactNode;
}) {
  return (
    <Shell open={open} onClose={onClose} className="relative z-20">
      <div className="fixed inset-0 bg-black/50" aria-hidden />
      <div className="fixed inset-0 grid place-items-center overflow-y-auto p-4">
        <DialogPanel className="w-full max-w-md rounded-card bg-sheet p-6">
          <DialogTitle className="font-serif text-xl">{title}</DialogTitle>
          {children}
        </DialogPanel>
      </div>
    </Shell>
  );
}

/** A dialog that takes the whole screen; its title stands in `children`, as a `DialogTitle`. */
export function FullScreen({ onClose, children }: { onClose: () => void; children: ReactNode }) {
  return (
    <Shell open onClose={onClose} className="relative z-40">
      <DialogPanel className="fixed inset-0 flex flex-col bg-black text-white">{children}</DialogPanel>
    </Shell>
  );
}

export { DialogTitle };

type ConfirmProps = {
  open: boolean;
  title: string;
  children: ReactNode;
  yes: string;
  busy: boolean;
  problem: Problem | null;
  onYes: () => void;
  onClose: () => void;
};

/** A question before what cannot be undone. */
export function Confirm({ open, title, children, yes, busy, problem, onYes, onClose }: ConfirmProps) {
  return (
    <Dialog open={open} title={title} onClose={onClose}>
      <p className="mt-2">{children}</p>
      <Trouble problem={problem} />
      <div className="mt-4 flex gap-3">
        <Button look="danger" disabled={busy} onClick={onYes}>
          {yes}
        </Button>
        <Button onClick={onClose} autoFocus>
          Cancel
        </Button>
      </div>
    </Dialog>
  );
}
