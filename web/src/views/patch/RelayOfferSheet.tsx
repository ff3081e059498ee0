import { useState } from "react";
import type { Device, Fitting, RelayOffer, Target } from "@/api/client";
import { usePutRelay } from "@/api/relays";
import { usePlace } from "@/api/targets";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { reasonsText } from "@/parts/patch";
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
            <Cost offer={offer} converted={converted} />
          </dd>
        </dl>
        {offer.problem ? (
          <p role="status" className="border-l-4 border-stuck bg-well px-3 py-2 text-small">
            <strong>{offer.problem}</strong> {offer.fix}
          </p>
        ) : (
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

/** What a relay costs its worker, against what is free there. */
function Cost({ offer: o, converted }: { offer: RelayOffer; converted: boolean }) {
  if (!converted) return <>no processor time to speak of: the packets go on as they come</>;
  if (!o.known) return <>not known yet: the worker has not measured itself, or the stream is not proven</>;
  const budget = o.budget ?? 0;
  const before = budget - (o.free ?? 0);
  const part = (cores: number) => `${Math.min(100, (cores / budget) * 100)}%`;
  return (
    <>
      <span className="num">{o.cores.toFixed(2)}</span> of a processor core;{" "}
      <span className="num">
        {(o.free ?? 0).toFixed(2)} of {budget.toFixed(2)}
      </span>{" "}
      for conversions are free
      <span className="mt-1 flex h-2 max-w-80 rounded-sm bg-well" aria-hidden>
        <span className="h-full rounded-l-sm bg-soft" style={{ width: part(before) }} />
        <span className={`h-full ${o.problem ? "bg-stuck" : "bg-open"}`} style={{ width: part(o.cores) }} />
      </span>
    </>
  );
}
