import { useState } from "react";
import type { TellRule } from "@/api/client";
import { useTellings } from "@/api/drifts";
import { Button } from "@/parts/Button";
import { ago } from "@/parts/measures";
import { useFrame } from "@/parts/useFrame";
import { TellSheet } from "./TellSheet";

const ways = { mail: "by mail", webhook: "by webhook", mqtt: "by MQTT" } as const;

/** Who hears what of the site, and whether it arrives. */
export function Tellings() {
  const { site } = useFrame();
  const tellings = useTellings(site.id);
  const [sheet, setSheet] = useState<TellRule | "new" | null>(null);
  const rules = tellings.data?.rules ?? [];
  return (
    <section>
      <h2 className="mb-1 text-lead font-semibold">Who is told</h2>
      {rules.length === 0 && <p>Nobody yet: what drifts is told on this page alone.</p>}
      <ul aria-label="Who is told" className="divide-y">
        {rules.map((r) => (
          <li key={r.id}>
            <button type="button" onClick={() => setSheet(r)} className="w-full py-1.5 text-left hover:bg-well">
              <span className="block font-semibold break-words">{r.rule.name}</span>
              <span className="block text-soft">
                {ways[r.rule.way]}, {r.rule.from === "notice" ? "everything" : `from ${r.rule.from} on`}
                {r.rule.digest && `, once a day at ${r.rule.digest_hour ?? 0}:00 UTC`}
              </span>
              <Standing rule={r} />
            </button>
          </li>
        ))}
      </ul>
      <Button className="mt-2" onClick={() => setSheet("new")}>
        Tell somebody
      </Button>
      {sheet && (
        <TellSheet
          site={site.id}
          rule={sheet === "new" ? undefined : sheet}
          messages={(tellings.data?.messages ?? []).filter((m) => sheet !== "new" && m.rule === sheet.id)}
          onClose={() => setSheet(null)}
        />
      )}
    </section>
  );
}

function Standing({ rule: r }: { rule: TellRule }) {
  if (r.off) return <span className="block text-stuck">Told nothing any more: {r.off}</span>;
  if (r.problem)
    return (
      <span className="block text-stuck break-words">
        {r.waiting} waiting: {r.problem}
      </span>
    );
  if (r.waiting > 0) return <span className="block">{r.waiting} on the way</span>;
  return <span className="block text-soft">{r.last ? `last arrived ${ago(r.last)}` : "nothing told yet"}</span>;
}
