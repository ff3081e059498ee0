import { useState } from "react";
import type { PairedWorker } from "@/api/client";
import { usePaired, useRevokeWorker } from "@/api/paired";
import { useSites } from "@/api/queries";
import { Button } from "@/parts/Button";
import { ago } from "@/parts/measures";
import { Sure } from "@/parts/Sure";
import { Trouble } from "@/parts/Trouble";
import { LaidOpen } from "./LaidOpen";
import { PairSheet } from "./PairSheet";
import { SitesSheet } from "./SitesSheet";
import { Update, UpdateAll } from "./Update";

/** The workers at sites that know the server by one connection of their own making. */
export function Paired() {
  const paired = usePaired();
  const [sheet, setSheet] = useState(false);
  const list = paired.data ?? [];
  return (
    <section className="mt-8">
      <div className="mb-2 flex items-center justify-between gap-3">
        <h2 className="font-semibold">Paired workers</h2>
        <span className="flex gap-2">
          <UpdateAll workers={list} />
          <Button onClick={() => setSheet(true)}>Pair a worker</Button>
        </span>
      </div>
      <Trouble error={paired.error} />
      {paired.data && list.length === 0 && (
        <p className="border-t pt-2 text-soft">
          A machine at a site opens one connection to this server, and no port at either end: cameras behind other people’s networks are
          reached so.
        </p>
      )}
      <ul className="border-t empty:hidden">
        {list.map((w) => (
          <One key={w.id} worker={w} />
        ))}
      </ul>
      {sheet && <PairSheet onClose={() => setSheet(false)} />}
    </section>
  );
}

function One({ worker: w }: { worker: PairedWorker }) {
  const sites = useSites().data ?? [];
  const revoke = useRevokeWorker();
  const [sheet, setSheet] = useState(false);
  const names = w.sites.map((id) => sites.find((s) => s.id === id)?.name ?? "a site of others").join(", ");
  const state = w.revoked_at ? "revoked" : w.connected ? "connected" : "away";
  return (
    <li data-paired={w.name} data-state={state} className="grid gap-x-4 gap-y-0.5 border-b py-2 sm:grid-cols-[180px_1fr_1fr_auto]">
      <span className="min-w-0">
        <span className="block truncate font-medium">{w.name}</span>
        <span className="block text-small text-soft">{names || "no site"}</span>
        {w.shared && <span className="block text-small text-soft">and sign-ins for every site</span>}
      </span>
      <span className="text-small">
        <span className={`block ${state === "connected" ? "text-open" : state === "away" ? "text-stuck" : "text-soft"}`}>{word(w)}</span>
        {w.twice_at && (
          <span className="block text-stuck">
            Its key was used from {w.twice_from} as well, {ago(w.twice_at)}: if nobody started it twice, revoke it.
          </span>
        )}
      </span>
      <span className="text-small text-soft">
        <span className="block">
          {w.machine && `${w.machine}, `}Unlatch {w.version}
        </span>
        <span className="mono block">key {w.key}</span>
        {state !== "revoked" && <Update worker={w} />}
      </span>
      {state !== "revoked" && (
        <span className="flex items-start gap-1">
          <Button look="quiet" className="h-7" onClick={() => setSheet(true)}>
            Sites
          </Button>
          <Sure
            ask={`Revoke ${w.name}?`}
            more="Its connection ends at once, and what it does stops. To come back it has to be paired anew."
            yes="Revoke it"
            onYes={() => revoke.mutate(w.id)}
          >
            <Button look="quiet" className="h-7">
              Revoke
            </Button>
          </Sure>
        </span>
      )}
      {w.left && <LaidOpen worker={w} />}
      {sheet && <SitesSheet worker={w} onClose={() => setSheet(false)} />}
    </li>
  );
}

/** How a paired worker stands, in a few words. */
function word(w: PairedWorker) {
  if (w.revoked_at) return `Revoked ${ago(w.revoked_at)}${w.revoked_by ? ` by ${w.revoked_by}` : ""}`;
  if (w.connected) return `Connected from ${w.from}${w.delay_ms ? `, ${Math.round(w.delay_ms)} ms away` : ""}`;
  return w.seen_at ? `Not connected; heard ${ago(w.seen_at)}` : "It has not connected yet";
}
