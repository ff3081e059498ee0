import { useState } from "react";
import type { Device, Fitting, RelayOffer, Target } from "@/api/client";
import { usePutRelay } from "@/api/relays";
import { usePlace } from "@/api/targets";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { reasonsText } from "@/parts/patch";
import { RelayCost } from "@/parts/RelayCost";
import { relayPath } from "@/parts/relaypath";
import { Sheet } from "@/parts/Sheet";

type Props = {
  site: string;
  device: Device;
  target: Target;
  offer: RelayOffer;
  reasons?: Fitting["reasons"];
  slot?: string;
  onClose: () => void;
};

/** Offers a stream that is served on for a target that takes none of a camera's own, with what that costs. */
export function RelayOfferSheet({ site, device, target: t, offer, reasons, slot, onClose }: Props) {
  const [path, setPath] = useState(relayPath(`${device.name} for ${t.name}`, offer.role));
  const put = usePutRelay(site);
  const place = usePlace(site);
  const converted = offer.words !== "as it comes";
  const serve = () =>
    put.mutate(
      {
        id: crypto.randomUUID(),
        device: device.id,
        relay: { role: offer.role as "main", path, for: t.name, target: t.id, at: offer.at, form: offer.form },
      },
      {
        onSuccess: () => {
          place.mutate({ placements: [{ device: device.id, target: t.id, slot, again: true }], name: t.name });
          onClose();
        },
      },
    );
  return (
    <Sheet title={`Serve ${device.name} on for ${t.name}`} open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          serve();
        }}
      >
        {reasons && reasons.length > 0 && (
          <p>
            {t.name} takes none of its own streams: {reasonsText({ device: "", target: "", verdict: "cannot", reasons })}
          </p>
        )}
        <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 border-y py-3">
          <dt className="text-soft">It gets</dt>
          <dd className="font-semibold">
            the {offer.role} stream, {converted ? offer.words : "as it comes, through a worker"}
          </dd>
          <dt className="text-soft">From</dt>
          <dd>
            the worker at <span className="mono">{offer.at}</span>
          </dd>
          <dt className="text-soft">Costs</dt>
          <dd>
            <RelayCost cost={offer} />
          </dd>
        </dl>
        {!offer.problem && (
          <p className="text-soft">
            It is given a user and a password that are made for this alone, and never the camera’s. Taking the camera off {t.name} ends it.
          </p>
        )}
        <Field label="Path behind the worker’s address" name="path" mono value={path} onChange={(e) => setPath(e.target.value)} />
        <Foot error={put.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={put.isPending || !path || !!offer.problem}>
            Serve it on and place it
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
