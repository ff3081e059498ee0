import { useState } from "react";
import type { Device } from "@/api/client";
import { useTargets } from "@/api/queries";
import { waitFor } from "@/parts/latches";
import { Button } from "@/parts/Button";
import { TargetAgreeSheet } from "./TargetAgreeSheet";

/** The button that asks what may go to a target, for all cameras that wait for it. */
export function AgreeForTarget({ site, target, devices, quiet }: { site: string; target: string; devices: Device[]; quiet?: boolean }) {
  const [asking, setAsking] = useState(false);
  const t = useTargets(site).data?.find((x) => x.id === target);
  if (!t) return null;
  return (
    <>
      <Button look={quiet ? "plain" : "next"} onClick={() => setAsking(true)}>
        Agree for {t.name}
      </Button>
      {asking && <TargetAgreeSheet site={site} target={t} devices={waitFor(devices, target)} onClose={() => setAsking(false)} />}
    </>
  );
}
