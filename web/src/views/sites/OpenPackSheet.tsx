import { useState } from "react";
import { useBringPack, useOpenPack } from "@/api/handover";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { FileButton } from "@/parts/FileButton";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";

/** Opens a handover pack that somebody else made: first what is in it, then the site that it becomes. */
export function OpenPackSheet({ onClose, onOpened }: { onClose: () => void; onOpened: (site: string) => void }) {
  const bring = useBringPack();
  const open = useOpenPack();
  const [secret, setSecret] = useState("");
  const pack = bring.data;
  return (
    <Sheet title="Open a handover pack" open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          if (pack) open.mutate({ upload: pack.id, secret: secret || undefined }, { onSuccess: (s) => onOpened(s.id) });
        }}
      >
        <p>
          It becomes a site: its cameras under their names, their plans and where they are shown. Nothing of it counts as measured until it
          was found here.
        </p>
        <FileButton name="Handover pack" accept=".zip,application/zip" disabled={bring.isPending} onFile={(f) => bring.mutate(f)}>
          {bring.isPending ? "Checking …" : pack ? "Choose another" : "Choose the zip file"}
        </FileButton>
        {pack && (
          <div data-pack className="space-y-2 border-l-4 border-open bg-well px-3 py-2">
            <p className="font-semibold">
              {pack.name}, version {pack.number}
            </p>
            <p className="text-small">
              Made by {pack.by} on {new Date(pack.at).toLocaleString()}: {pack.cameras === 1 ? "1 camera" : `${pack.cameras} cameras`}
              {pack.devices > pack.cameras && `, ${pack.devices - pack.cameras} other devices`}. Every file is as it was made.
            </p>
            <p className="text-small">
              Unlatch will connect to <span className="mono">{pack.ranges.join(", ")}</span>
              {pack.targets
                .filter((t) => t.address)
                .map((t) => (
                  <span key={t.name + t.address}>
                    {" "}
                    and to {t.name} at <span className="mono">{t.address}</span>
                  </span>
                ))}
              .
            </p>
            {pack.books.length > 0 && (
              <p className="text-small">
                It brings {pack.books.length === 1 ? "a book" : `${pack.books.length} books`} of recipes and settings:{" "}
                {pack.books.join(", ")}. What is here under the same name stays.
              </p>
            )}
            {pack.warnings.map((w) => (
              <p key={w} className="text-small text-soft">
                Left out: {w}
              </p>
            ))}
            <p className="text-small text-soft">
              Compare with the sign-off page: <span className="mono break-all">{pack.hash}</span>
            </p>
          </div>
        )}
        {pack?.sealed && (
          <Field
            label={pack.sealed.passphrase ? "Passphrase of the sealed sign-ins" : "Secret key of age, for the sealed sign-ins"}
            hint={`${pack.sealed.sign_ins} sign-ins are sealed. Without it they are left out, and can be typed later.`}
            name="secret"
            type="password"
            autoComplete="off"
            value={secret}
            onChange={(e) => setSecret(e.target.value)}
          />
        )}
        <Foot error={open.error ?? bring.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={!pack || pack.here || open.isPending}>
            {pack?.here ? "This site is here already" : "Make the site"}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
