import { useCallback, useState } from "react";
import { toast } from "sonner";
import { say } from "@/api/actions";
import type { Device, Fitting, RelayOffer } from "@/api/client";
import { askRelayOffer } from "@/api/relays";
import { useFill, useMove, usePlace, useTakeOff } from "@/api/targets";
import { dropOn, type Row } from "@/parts/patch";
import { gutter } from "./Cords";
import type { Carried } from "./useHand";

/** A relay that is offered for a camera and the slot over which it was let go. */
type Offered = { device: Device; row: Row; offer: RelayOffer; reasons: Fitting["reasons"] };

/** What is done where something that is carried is let go over a row; anew asks for the fittings again, done comes after what was begun. */
export function useLetGo(site: string, fittings: Map<string, Fitting>, anew: () => Promise<Map<string, Fitting>>, done: () => void) {
  const place = usePlace(site);
  const fill = useFill(site);
  const move = useMove(site);
  const takeOff = useTakeOff(site);
  const [relay, setRelay] = useState<Offered>();
  const letGo = useCallback(
    async (hand: Carried, row: Row | undefined) => {
      const away = hand.by === "pointer" && hand.x < gutter / 2;
      let drop = dropOn(hand, row, away, fittings);
      if (drop.does === "refuse") drop = dropOn(hand, row, away, await anew()); // it may have come onto a recorder a moment ago
      switch (drop.does) {
        case "refuse": {
          const device = hand.devices.length === 1 ? hand.devices[0] : undefined;
          if (drop.cannot && device && row) {
            const offer = await askRelayOffer(site, device.id, row.target.id).catch(say);
            if (offer) {
              setRelay({ device, row, offer, reasons: fittings.get(`${device.id} ${row.target.id}`)?.reasons });
              return;
            }
          }
          toast.error(drop.problem, { description: drop.why });
          return;
        }
        case "take off":
          takeOff.mutate({ devices: [drop.device], target: drop.target.id, name: drop.target.name, slots: [drop.slot] });
          return;
        case "move":
          move.mutate(drop);
          return;
        case "fill":
          fill.mutate({ target: drop.target, devices: drop.devices, start: drop.start, tune: drop.tune });
          break;
        case "place":
          place.mutate(drop);
          break;
        default:
          return;
      }
      done();
    },
    [site, fittings, anew, fill, move, place, takeOff, done],
  );
  /** Takes the camera of a row off its target. */
  const takeOffRow = (row: Row) =>
    row.device && takeOff.mutate({ devices: [row.device.id], target: row.target.id, name: row.target.name, slots: [row.slot?.token] });
  /** Fills free slots from a row on. */
  const fillFrom = (row: Row, devices: string[]) => fill.mutate({ target: row.target.id, devices, start: row.slot?.token, tune: true });
  return { letGo, takeOffRow, fillFrom, relay, forgetRelay: () => setRelay(undefined) };
}
