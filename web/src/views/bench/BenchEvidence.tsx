import { useState } from "react";
import { Link } from "react-router";
import type { Device } from "@/api/client";
import { useEvidence } from "@/api/queries";
import { useFrame } from "@/parts/useFrame";

/** What was seen of the device, newest first; each conversation can be read whole. */
export function Evidence({ device: d }: { device: Device }) {
  const { site } = useFrame();
  const evidence = useEvidence(d.id);
  const [all, setAll] = useState(false);
  const list = evidence.data ?? [];
  return (
    <section className="border-t px-4 py-3" aria-label="Evidence">
      <h3 className="mb-1 text-small text-soft">Evidence, newest first</h3>
      <ol>
        {list.slice(0, all ? undefined : 8).map((r) => (
          <li key={r.id} className="flex gap-2 py-0.5 text-small">
            <span className="mono w-16 shrink-0 text-soft" title={new Date(r.at).toLocaleString()}>
              {new Date(r.at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", second: "2-digit", hour12: false })}
            </span>
            <span className={`min-w-0 grow ${r.failed ? "text-stuck" : ""}`}>{r.summary}</span>
            {r.exchange && (
              <Link className="shrink-0 self-start text-soft underline hover:text-ink" to={`/sites/${site.id}/exchange/device/${r.id}`}>
                exchange
              </Link>
            )}
          </li>
        ))}
      </ol>
      {list.length > 8 && (
        <button type="button" className="mt-1 text-small text-soft underline hover:text-ink" onClick={() => setAll(!all)}>
          {all ? "Show less" : `Show all ${list.length}`}
        </button>
      )}
    </section>
  );
}
