import { QRCodeSVG } from "qrcode.react";
import { useState } from "react";
import { useAddCode, useBeginCode } from "@/api/people";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { PasswordSheet } from "./PasswordSheet";

/** Adds an app that makes one-time codes: after the password, its key as a QR code, and the first code that it shows. */
export function CodeSheet({ onClose, onAdded }: { onClose: () => void; onAdded: (made: { recovery_codes?: string[] }) => void }) {
  const begin = useBeginCode();
  const add = useAddCode();
  const [code, setCode] = useState("");
  const begun = begin.data;
  if (!begun)
    return (
      <PasswordSheet title="Codes from an app" yes="Go on" action={begin} onYes={(password) => begin.mutate(password)} onClose={onClose} />
    );
  return (
    <Sheet title="Codes from an app" open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate({ ceremony: begun.ceremony, code: code.replaceAll(" ", ""), name: "" }, { onSuccess: onAdded });
        }}
      >
        <p>Scan this with an app that makes one-time codes, then type the code that it shows.</p>
        <div className="grid place-items-center bg-white p-4">
          <QRCodeSVG value={begun.url} size={200} marginSize={2} role="img" aria-label="QR code of the key" />
        </div>
        <p className="mono text-small break-all" data-key>
          {begun.secret}
        </p>
        <Copy text={begun.secret} label="Copy the key" />
        <Field
          label="Code"
          name="code"
          value={code}
          onChange={(e) => setCode(e.target.value)}
          inputMode="numeric"
          autoComplete="one-time-code"
          autoFocus
          mono
        />
        <Foot error={add.error}>
          <Button look="next" type="submit" disabled={add.isPending || code.replaceAll(" ", "").length < 6}>
            Add it
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
