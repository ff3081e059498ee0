import { useState } from "react";
import { useNavigate } from "react-router";
import { say, useFix, useOpenLatches } from "@/api/actions";
import type { ReadyFinding as Finding } from "@/api/client";
import { useDrifts } from "@/api/drifts";
import { useWithdrawWaiver } from "@/api/handover";
import { useMay } from "@/api/queries";
import { StreamUserSheet } from "@/forms/StreamUserSheet";
import { Button } from "@/parts/Button";
import { StateSign } from "@/parts/StateSign";
import { useFrame } from "@/parts/useFrame";
import { AgreedSheet } from "@/views/agreed/AgreedSheet";
import { RoundsSheet } from "@/views/drift/RoundsSheet";
import { ClaimSheet } from "@/views/lineup/ClaimSheet";
import { NameSheet } from "@/views/lineup/NameSheet";
import { WaiveSheet } from "./WaiveSheet";
import { mendWords } from "./words";

/** How many things of a finding are named before the rest is folded. */
const fewThings = 6;

/** One cause not to hand over, with its things, the button that mends it, and the way to waive it. */
export function ReadyFinding({ finding: f, first, waived }: { finding: Finding; first?: boolean; waived?: boolean }) {
  const { site } = useFrame();
  const may = useMay();
  const [all, setAll] = useState(false);
  const [waiving, setWaiving] = useState(false);
  const withdraw = useWithdrawWaiver(site.id);
  const things = (waived ? f.waived : f.things) ?? [];
  const shown = all ? things : things.slice(0, fewThings);
  return (
    <li data-cause={f.cause} className="border-b py-3">
      <div className="flex flex-wrap items-start gap-x-3 gap-y-2">
        <span className="mt-1">
          <StateSign state={waived ? "waiting" : "broken"} />
        </span>
        <div className="min-w-0 grow basis-64">
          <p className="font-semibold break-words">{f.title}</p>
          {!waived && <p className="text-small text-soft">{f.do}</p>}
        </div>
        {may("work") && !waived && (
          <span className="flex flex-wrap gap-2">
            {f.mend && <Mend finding={f} first={first} />}
            <Button look="quiet" onClick={() => setWaiving(true)}>
              Waive
            </Button>
          </span>
        )}
        {may("work") && waived && (
          <Button look="quiet" onClick={() => withdraw.mutate({ cause: f.cause, things: things.map((t) => t.id) })}>
            Take it back
          </Button>
        )}
      </div>
      <ul className="mt-1 ml-6 text-small sm:columns-2 sm:gap-x-6">
        {shown.map((t) => (
          <li key={t.id} className="flex break-inside-avoid flex-wrap gap-x-3">
            <span className="break-words">{t.title}</span>
            {t.detail && f.cause !== "unfinished" && f.cause !== "drifted" && <span className="mono text-soft">{t.detail}</span>}
            {t.waiver && (
              <span className="text-soft">
                {t.waiver.reason} — {t.waiver.by}, {new Date(t.waiver.at).toLocaleDateString()}
              </span>
            )}
          </li>
        ))}
        {things.length > fewThings && (
          <li>
            <button type="button" className="min-h-6 underline underline-offset-2" onClick={() => setAll(!all)}>
              {all ? "Fewer" : `and ${things.length - fewThings} more`}
            </button>
          </li>
        )}
      </ul>
      {waiving && <WaiveSheet site={site.id} finding={f} onClose={() => setWaiving(false)} />}
    </li>
  );
}

/** The button that mends a finding, where it can be mended from here, or leads to where it can. */
function Mend({ finding: f, first }: { finding: Finding; first?: boolean }) {
  const { site, devices } = useFrame();
  const go = useNavigate();
  const [sheet, setSheet] = useState(false);
  const open = useOpenLatches(site.id);
  const fix = useFix(site.id);
  const drifts = useDrifts(site.id);
  const ids = f.things.map((t) => t.id);
  const of = devices.filter((d) => ids.includes(d.id));
  const places: Partial<Record<NonNullable<Finding["mend"]>, string>> = {
    place: "plan",
    outside: "outside",
    drift: "drift",
    target: ids[0] ? `targets/${ids[0]}` : "patch",
  };
  const mend = () => {
    if (f.mend === "open") return open.mutate({ devices: ids });
    if (f.mend === "clock") return fix.mutate({ action: "clock", devices: of }, { onError: say });
    const place = f.mend && places[f.mend];
    if (place) return go(`/sites/${site.id}/${place}`);
    setSheet(true);
  };
  const close = () => setSheet(false);
  return (
    <>
      <Button look={first ? "next" : "plain"} disabled={open.isPending || fix.isPending} onClick={mend}>
        {mendWords[f.mend!]}
      </Button>
      {sheet && f.mend === "claim" && <ClaimSheet site={site.id} devices={of} open onOpenChange={close} />}
      {sheet && f.mend === "stream_user" && <StreamUserSheet site={site.id} devices={of} onClose={close} />}
      {sheet && f.mend === "name" && <NameSheet site={site.id} devices={of} onClose={close} />}
      {sheet && f.mend === "agree" && <AgreedSheet site={site.id} devices={devices} onClose={close} onTaken={close} />}
      {sheet && f.mend === "watch" && drifts.data && <RoundsSheet site={site.id} rule={drifts.data.rule} onClose={close} />}
    </>
  );
}
