import { AlertDialog } from "radix-ui";
import type { ReactElement, ReactNode } from "react";
import { Button } from "./Button";

/**
 * Asks before something is done that cannot be taken back. The child is the button that leads to it; the answer that changes
 * nothing has the focus.
 */
export function Sure({
  ask,
  more,
  yes,
  keep = "Keep",
  onYes,
  children,
}: {
  ask: string;
  more: ReactNode;
  yes: string;
  keep?: string;
  onYes: () => void;
  children: ReactElement;
}) {
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger asChild>{children}</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-black/45" />
        <AlertDialog.Content
          className="fixed top-[22vh] left-1/2 z-50 w-[min(94vw,420px)] -translate-x-1/2 rounded-md border
          bg-sheet p-4 shadow-2xl"
        >
          <AlertDialog.Title className="font-semibold">{ask}</AlertDialog.Title>
          <AlertDialog.Description className="mt-1.5 text-soft">{more}</AlertDialog.Description>
          <div className="mt-4 flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>{keep}</Button>
            </AlertDialog.Cancel>
            <AlertDialog.Action asChild>
              <Button look="danger" onClick={onYes}>
                {yes}
              </Button>
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
