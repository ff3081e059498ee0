import { X } from "lucide-react";
import { Dialog } from "radix-ui";
import { type ReactNode, useRef } from "react";

const fields = "input:enabled:not([type=hidden]):not([hidden]), select:enabled, textarea:enabled";

/**
 * A small sheet over the page for one short form; it never leads through steps. What is marked data-first has the focus, else the first
 * field, and not the cross; what is long scrolls, and the buttons of its Foot stay in sight.
 */
export function Sheet({
  title,
  open,
  onOpenChange,
  children,
  wide,
}: {
  title: string;
  open: boolean;
  onOpenChange: (open: boolean) => void;
  children: ReactNode;
  wide?: boolean;
}) {
  const body = useRef<HTMLDivElement>(null);
  const focusFirst = (e: Event) => {
    const field =
      body.current?.querySelector<HTMLElement>("[data-first]") ??
      body.current?.querySelector<HTMLElement>(fields) ??
      body.current?.querySelector<HTMLElement>("button:enabled");
    if (!field) return;
    e.preventDefault();
    field.focus();
  };
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/45" />
        <Dialog.Content
          aria-describedby={undefined}
          onOpenAutoFocus={focusFirst}
          className={`fixed top-[6vh] left-1/2 z-50 flex max-h-[88vh] -translate-x-1/2 flex-col rounded-md border bg-sheet shadow-2xl`}
          style={{ width: `min(94vw, ${wide ? 860 : 520}px)` }}
        >
          <div className="flex items-center justify-between border-b py-2 pr-2 pl-4">
            <Dialog.Title className="font-semibold">{title}</Dialog.Title>
            <Dialog.Close aria-label="Close" className="rounded-sm p-1.5 text-soft hover:bg-well hover:text-ink">
              <X size={16} />
            </Dialog.Close>
          </div>
          <div ref={body} className="min-h-0 scroll-pb-20 overflow-auto p-4">
            {children}
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
