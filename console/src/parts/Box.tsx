import { X } from "lucide-react";
import { Dialog } from "radix-ui";
import type { ReactNode } from "react";

/** A dialog with a heading, over the page. */
export function Box({ open, onOpen, title, note, wide, children }: { open: boolean; onOpen: (open: boolean) => void; title: string; note: string; wide?: boolean; children: ReactNode }) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-10 bg-black/40" />
        <Dialog.Content className={`card fixed top-1/2 left-1/2 z-10 flex max-h-[92vh] w-[94vw] ${wide ? "max-w-5xl" : "max-w-2xl"} -translate-x-1/2 -translate-y-1/2 flex-col shadow-xl`}>
          <header>
            <Dialog.Title className="font-semibold">{title}</Dialog.Title>
            <Dialog.Description className="text-xs text-ink-3">{note}</Dialog.Description>
            <span className="flex-1" />
            <Dialog.Close className="rounded p-1 text-ink-3 hover:text-ink" aria-label="Close">
              <X size={16} aria-hidden="true" />
            </Dialog.Close>
          </header>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
