import { Download } from "lucide-react";
import { useState } from "react";
import type { OutsideView } from "@/api/client";
import { useOutside, usePlanOutside, useProveOutside, usePutOutside } from "@/api/outside";
import { useMay } from "@/api/queries";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { Trouble } from "@/parts/Trouble";
import { useFrame } from "@/parts/useFrame";

/** How the site is seen from outside: its addresses there, which port leads to which camera, and what must never be led inside. */
export function Outside() {
  const { site } = useFrame();
  const kept = useOutside(site.id);
  if (kept.error) return <Trouble error={kept.error} />;
  if (!kept.data) return null;
  return <OutsideForm key={JSON.stringify(kept.data.form)} site={site.id} kept={kept.data} />;
}

function OutsideForm({ site, kept }: { site: string; kept: OutsideView }) {
  const may = useMay();
  const [addresses, setAddresses] = useState(kept.form.addresses.join(", "));
  const [pool, setPool] = useState(kept.form.pool || "20000-20099");
  const plan = usePlanOutside(site);
  const put = usePutOutside(site);
  const prove = useProveOutside(site);
  const shown = plan.data ?? kept;
  const form = (maps: OutsideView["form"]["maps"]) => ({
    addresses: addresses.split(/[\s,]+/).filter(Boolean),
    pool: pool.trim(),
    maps,
  });
  const changed = !!plan.data || addresses !== kept.form.addresses.join(", ") || (kept.form.pool !== "" && pool !== kept.form.pool);
  const without = (port: number) => form(shown.form.maps.filter((m) => m.port !== port));
  const kind = shown.ports.length === 0 ? "plan" : changed ? "keep" : "prove";
  return (
    <div className="h-full overflow-auto">
      <div className="mx-auto max-w-5xl p-4 sm:p-8">
        <h1 className="mb-1 text-xl font-semibold">From outside</h1>
        <p className="mb-5 max-w-2xl text-soft">
          Which port of the site’s outside address leads to which camera, for screens, phones and voice directories that stand elsewhere.
          Unlatch changes nothing on a router: it writes the sheet for whoever runs it.
        </p>
        <form
          className="flex flex-wrap items-end gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            plan.mutate(form(shown.form.maps));
          }}
        >
          <Field
            label="Outside address, or a name that leads to it"
            name="addresses"
            mono
            autoComplete="off"
            className="w-80 max-w-full"
            placeholder="203.0.113.7"
            value={addresses}
            onChange={(e) => setAddresses(e.target.value)}
          />
          <Field
            label="Ports to take"
            name="pool"
            mono
            autoComplete="off"
            className="w-40"
            value={pool}
            onChange={(e) => setPool(e.target.value)}
          />
          {may("work") && (
            <>
              <Button type="submit" look={kind === "plan" ? "next" : "plain"} disabled={plan.isPending}>
                Plan the ports
              </Button>
              <Button
                look={kind === "keep" ? "next" : "plain"}
                disabled={put.isPending || !changed}
                onClick={() => put.mutate(form(shown.form.maps), { onSuccess: () => plan.reset() })}
              >
                Keep it
              </Button>
              <Button
                look={kind === "prove" ? "next" : "plain"}
                disabled={prove.isPending || changed || shown.ports.length === 0}
                onClick={() => prove.mutate(undefined)}
              >
                Prove from elsewhere
              </Button>
            </>
          )}
          {kept.ports.length > 0 && (
            <a href={`/api/sites/${site}/outside/file`} className="inline-flex min-h-9 items-center gap-1 underline hover:text-ink">
              <Download size={14} /> Sheet for the router
            </a>
          )}
        </form>
        <div className="mt-3 space-y-2">
          <Trouble error={put.error ?? plan.error} />
          {shown.problems.map((p) => (
            <p key={p.problem} className="border-l-4 border-stuck px-3">
              {p.problem} <span className="text-soft">{p.fix}</span>
            </p>
          ))}
        </div>
        <Ports view={shown} onRemove={may("work") ? (port) => put.mutate(without(port), { onSuccess: () => plan.reset() }) : undefined} />
        <Refused list={shown.refused} />
        {shown.never.length > 0 && (
          <section aria-label="Never outside" className="mt-6">
            <h2 className="border-b pb-1 font-semibold">Never outside</h2>
            <p className="py-1 text-small text-soft">
              Whoever gets in there changes a device, and not only looks. These stand on the sheet too.
            </p>
            <ul className="columns-1 text-small sm:columns-2">
              {shown.never.map((n) => (
                <li key={n} className="py-0.5">
                  {n}
                </li>
              ))}
            </ul>
          </section>
        )}
      </div>
    </div>
  );
}

/** The ports, each with the streams that it leads to and whether they were seen from elsewhere. */
function Ports({ view, onRemove }: { view: OutsideView; onRemove?: (port: number) => void }) {
  if (view.ports.length === 0) return <p className="mt-5 text-soft">No port is planned yet.</p>;
  return (
    <section aria-label="Ports" className="mt-5">
      <h2 className="border-b pb-1 font-semibold">Ports</h2>
      {view.ports.map((p) => (
        <div key={p.port} data-port={p.port} className="grid gap-x-4 border-b py-2 sm:grid-cols-[5rem_1fr_auto]">
          <span className="mono text-lg">{p.port}</span>
          <div className="min-w-0">
            <div>
              {p.name} <span className="mono text-small text-soft">→ {p.inside}</span>
            </div>
            {p.streams.some((s) => !s.url) && (
              <div className="text-small text-soft">{p.streams.map((s) => s.role).join(", ")}: no outside address yet</div>
            )}
            {p.streams
              .filter((s) => s.url)
              .map((s) => (
                <div key={s.role} className="text-small">
                  <span className="text-soft">{s.role}</span> <span className="mono break-all">{s.url}</span>{" "}
                  <Copy text={s.url} label="Copy" />
                  <span className={`block ${s.proven ? "text-open" : s.problem ? "text-stuck" : "text-soft"}`}>
                    {s.proven ? `✓ seen from elsewhere, by ${s.worker}` : (s.problem ?? "not proven from elsewhere yet")}
                    {s.fix && !s.proven && <span className="text-soft"> {s.fix}</span>}
                  </span>
                </div>
              ))}
          </div>
          {onRemove && (
            <Button look="quiet" className="h-7 self-start" onClick={() => onRemove(p.port)}>
              Take it out
            </Button>
          )}
        </div>
      ))}
    </section>
  );
}

/** Streams that are not led outside, each reason once. */
function Refused({ list }: { list: OutsideView["refused"] }) {
  if (list.length === 0) return null;
  const reasons = [...new Set(list.map((r) => r.why))];
  return (
    <section aria-label="Not led outside" className="mt-6">
      <h2 className="border-b pb-1 font-semibold">Not led outside</h2>
      {reasons.map((why) => {
        const of = list.filter((r) => r.why === why);
        return (
          <p key={why} className="border-b py-2">
            {of.map((r) => `${r.name}, ${r.role}`).join("; ")}: {why} <span className="text-soft">{of[0]!.fix}</span>
          </p>
        );
      })}
    </section>
  );
}
