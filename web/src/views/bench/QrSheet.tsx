import { QRCodeSVG } from "qrcode.react";
import { useState } from "react";
import { say } from "@/api/actions";
import { Check } from "@/parts/Check";
import { Sheet } from "@/parts/Sheet";

/** A URL as a QR code, for the phone on the ladder. The sign-in is in it only when somebody asks for that. */
export function QrSheet({
  title,
  url,
  reveal,
  onClose,
}: {
  title: string;
  url: string;
  reveal: () => Promise<string>;
  onClose: () => void;
}) {
  const [whole, setWhole] = useState<string | null>(null);
  return (
    <Sheet title={title} open onOpenChange={(o) => !o && onClose()}>
      <div className="grid place-items-center bg-white p-4">
        <QRCodeSVG
          value={whole ?? url}
          size={280}
          marginSize={2}
          role="img"
          aria-label={`QR code of ${url}`}
          data-qr={whole ? "with sign-in" : "without sign-in"}
        />
      </div>
      <p className="mono mt-2 text-small break-all">{url}</p>
      <label className="mt-3 flex items-center gap-2">
        <Check
          checked={whole !== null}
          label="With the sign-in"
          onChange={() => (whole === null ? reveal().then(setWhole).catch(say) : setWhole(null))}
        />{" "}
        With the sign-in
      </label>
      <p className="text-small text-soft">Anybody who sees the code then has the password. Who asked is recorded.</p>
    </Sheet>
  );
}
