import { useState } from "react";
import { Link } from "react-router";
import { useRelayOffer } from "@/api/relays";
import { useAttest, usePlace, useTakeOff } from "@/api/targets";
import { AgreeForTarget } from "@/forms/AgreeForTarget";
import { Button } from "@/parts/Button";
import type { Cord } from "@/parts/patch";
import { useFrame } from "@/parts/useFrame";
import { ShowOn } from "./HubActions";
import { RelayOfferSheet } from "./RelayOfferSheet";

/** What can be done with a cord; the first button is what to do next. */
export function CordActions({ cord }: { cord: Cord }) {
  const { site, devices } = useFrame();
  const { device, row, placement: p } = cord;
  const t = row.target;
  const place = usePlace(site.id);
  const takeOff = useTakeOff(site.id);
  const attest = useAttest(site.id);
  const misfit = p.misfit && p.misfit.length > 0;
  const again = (tune: boolean) =>
    place.mutate({ placements: [{ device: device.id, target: t.id, slot: p.wanted || undefined, again: true }], tune, name: t.name });
  const byHand = t.kind === "template" || t.kind === "feed";
  return (
    <div className="mt-2 flex flex-wrap gap-2">
      {p.diagnosis?.wanted?.target ? (
        <AgreeForTarget site={site.id} target={p.diagnosis.wanted.target} devices={devices} />
      ) : misfit || p.diagnosis?.cause === "intake_unmet" ? (
        <Unmet cord={cord} onTune={() => again(true)} />
      ) : p.diagnosis?.cause === "wrong_picture" ? (
        <Button look="next" onClick={() => again(false)}>
          Put it right
        </Button>
      ) : p.diagnosis || p.moved || !p.slot ? (
        <Button look="next" onClick={() => again(false)}>
          {p.slot ? "Place it again" : "Place it"}
        </Button>
      ) : byHand && !p.confirmed ? (
        <Button look="next" onClick={() => attest.mutate({ devices: [device.id], target: t.id })}>
          I have looked: it shows
        </Button>
      ) : (
        <Button onClick={() => again(false)}>Place it again</Button>
      )}
      <ShowOn device={device.id} target={t} site={site.id} />
      <Button onClick={() => takeOff.mutate({ devices: [device.id], target: t.id, name: t.name, slots: [p.token] })}>Take it off</Button>
      <Link className="inline-flex h-8 items-center rounded-md px-3 text-soft hover:bg-well" to={`/sites/${site.id}?device=${device.id}`}>
        Bench
      </Link>
    </div>
  );
}

/** What can be done where the target takes none of the camera's streams: the camera is set otherwise, or a stream is served on. */
function Unmet({ cord, onTune }: { cord: Cord; onTune: () => void }) {
  const { site } = useFrame();
  const { device, row, placement: p } = cord;
  const offer = useRelayOffer(site.id, device.id, row.target.id, p.relay === undefined).data;
  const [relaying, setRelaying] = useState(false);
  return (
    <>
      {offer?.only !== true && (
        <Button look="next" onClick={onTune}>
          Tune it, then place it
        </Button>
      )}
      {offer && (
        <Button look={offer.only ? "next" : undefined} onClick={() => setRelaying(true)}>
          Serve it on: {offer.words}
        </Button>
      )}
      {relaying && offer && (
        <RelayOfferSheet
          site={site.id}
          device={device}
          target={row.target}
          offer={offer}
          reasons={p.misfit}
          slot={p.wanted || undefined}
          onClose={() => setRelaying(false)}
        />
      )}
    </>
  );
}
