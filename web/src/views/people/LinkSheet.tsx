import { QRCodeSVG } from "qrcode.react";
import { Copy } from "@/parts/Copy";
import { Sheet } from "@/parts/Sheet";
import type { Made } from "./roles";

/** A one-time link, right after it was made: to copy, or to be taken from the screen with a phone. It is not shown again. */
export function LinkSheet({ made, onClose }: { made: Made; onClose: () => void }) {
  const url = `${location.origin}/join#${made.token}`;
  return (
    <Sheet
      title={made.reset ? `A new password for ${made.name}` : `The invitation for ${made.name}`}
      open
      onOpenChange={(o) => !o && onClose()}
    >
      <p className="mb-3">
        Give this link to {made.name}, and to nobody else: whoever opens it first {made.reset ? "sets the password" : "has the account"}. It
        is good once, within 72 hours, and is not shown again.
      </p>
      <div className="grid place-items-center bg-white p-4">
        <QRCodeSVG value={url} size={240} marginSize={2} role="img" aria-label="QR code of the link" />
      </div>
      <p className="mono mt-2 text-small break-all" data-link>
        {url}
      </p>
      <div className="mt-2">
        <Copy text={url} label="Copy the link" />
      </div>
    </Sheet>
  );
}
