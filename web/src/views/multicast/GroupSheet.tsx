import { useEffect, useState } from "react";
import { usePlanGroups } from "@/api/actions";
import type { CastView } from "@/api/client";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Check } from "@/parts/Check";
import { Sheet } from "@/parts/Sheet";
import { Trouble } from "@/parts/Trouble";

/** What is wrong with what was typed; "" where nothing is. */
export function wrongIn(port: string, ttl: string): string {
  const whole = (text: string) => (/^\d+$/.test(text.trim()) ? Number(text) : Number.NaN);
  const p = whole(port);
  if (!(p >= 1024 && p <= 65534 && p % 2 === 0)) return "Type an even port from 1024 to 65534: the odd one behind it is for RTCP.";
  const t = whole(ttl);
  if (!(t >= 1 && t <= 255)) return "Type a TTL from 1 to 255: over how many routers it goes.";
  return "";
}

/** Groups for streams, each its own: what would be set, and then setting it. */
export function GroupSheet({ site, streams, onClose }: { site: string; streams: CastView[]; onClose: () => void }) {
  const plan = usePlanGroups(site);
  const send = usePlanGroups(site);
  const [pool, setPool] = useState("239.255.0.0/16");
  const [port, setPort] = useState("50000");
  const [ttl, setTTL] = useState("4");
  const [always, setAlways] = useState<boolean | undefined>(undefined);
  const body = {
    streams: streams.map((c) => ({ device: c.device, role: c.role as "main" | "sub" | "third" })),
    pool: pool.trim(),
    port: Number(port),
    ttl: Number(ttl),
    always,
  };
  const wish = JSON.stringify(body);
  const wrong = wrongIn(port, ttl);
  const ask = plan.mutate;
  useEffect(() => {
    if (wrong) return;
    const soon = setTimeout(() => ask(JSON.parse(wish)), 250);
    return () => clearTimeout(soon);
  }, [wish, wrong, ask]);
  // What is set is what is shown: while something else was typed and not planned yet, nothing is.
  const shown = !wrong && JSON.stringify(plan.variables) === wish;
  const lines = plan.data?.lines ?? [];
  const changing = lines.filter((l) => !l.keep);
  const field = "mono h-8 rounded-md border bg-paper px-2";
  return (
    <Sheet title="Groups of their own" open onOpenChange={(o) => !o && onClose()} wide>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          send.mutate({ ...body, send: true }, { onSuccess: onClose });
        }}
      >
        <div className="flex flex-wrap items-end gap-3">
          <label className="text-small">
            Pool of groups
            <input className={`${field} mt-0.5 block w-44`} value={pool} onChange={(e) => setPool(e.target.value)} />
          </label>
          <label className="text-small">
            Port
            <input className={`${field} mt-0.5 block w-24`} inputMode="numeric" value={port} onChange={(e) => setPort(e.target.value)} />
          </label>
          <label className="text-small">
            TTL
            <input className={`${field} mt-0.5 block w-20`} inputMode="numeric" value={ttl} onChange={(e) => setTTL(e.target.value)} />
          </label>
          <span className="flex h-8 items-center gap-2 text-small">
            <Check
              checked={always ?? "indeterminate"}
              onChange={() => setAlways(always === undefined ? false : always ? undefined : true)}
              label="Send with nobody asking"
            />
            Send with nobody asking{always === undefined && <span className="text-soft"> (as it is)</span>}
          </span>
        </div>
        <p className="mt-2 text-small text-soft">
          No two of the groups look alike to a switch, and none is one that another stream of this site has. A stream whose group is its own
          keeps it.
        </p>
        {wrong ? (
          <p role="alert" className="mt-3 text-stuck">
            {wrong}
          </p>
        ) : plan.error ? (
          <div className="mt-3">
            <Trouble error={plan.error} />
          </div>
        ) : (
          <table className="mt-3 w-full text-small" data-group-plan={lines.length}>
            <thead className="text-left text-soft">
              <tr>
                <th className="py-1 font-normal">Camera</th>
                <th className="font-normal">Stream</th>
                <th className="font-normal">Now</th>
                <th className="font-normal">Then</th>
              </tr>
            </thead>
            <tbody>
              {lines.map((l) => (
                <tr key={l.device + l.role} className="border-t">
                  <td className="py-1 pr-3">{l.name}</td>
                  <td className="pr-3">{l.role}</td>
                  <td className="mono pr-3 text-soft">{l.old}</td>
                  <td className={`mono ${l.keep ? "text-soft" : "font-semibold"}`}>{l.keep ? "stays" : l.new}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        <Foot error={send.error} left={send.data?.left}>
          <Button look="next" type="submit" disabled={!shown || changing.length === 0 || send.isPending || plan.isPending}>
            Set {changing.length === 1 ? "1 group" : `${changing.length} groups`} and measure
          </Button>
          <Button onClick={onClose}>Cancel</Button>
          <span className="text-small text-soft">What was before is written down first: “Put back” undoes it.</span>
        </Foot>
      </form>
    </Sheet>
  );
}
