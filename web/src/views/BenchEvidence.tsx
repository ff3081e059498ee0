import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { exchangeText, type Device } from "@/api/client";
import { useEvidence } from "@/api/queries";
import { Copy } from "@/parts/Copy";
import { Sheet } from "@/parts/Sheet";
import { Trouble } from "@/parts/Trouble";
import { keys } from "@/api/keys";

/** What was seen of the device, newest first; each conversation can be read whole. */
export function Evidence({ device: d }: { device: Device }) {
  const evidence = useEvidence(d.id);
  const [reading, setReading] = useState<{ id: string; title: string } | null>(null);
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
              <button
                type="button"
                className="shrink-0 self-start text-soft underline hover:text-ink"
                onClick={() => setReading({ id: r.id, title: r.summary })}
              >
                exchange
              </button>
            )}
          </li>
        ))}
      </ol>
      {list.length > 8 && (
        <button type="button" className="mt-1 text-small text-soft underline hover:text-ink" onClick={() => setAll(!all)}>
          {all ? "Show less" : `Show all ${list.length}`}
        </button>
      )}
      <Sheet title={reading?.title ?? ""} open={!!reading} onOpenChange={(o) => !o && setReading(null)} wide>
        {reading && <Exchange id={reading.id} />}
      </Sheet>
    </section>
  );
}

function Exchange({ id }: { id: string }) {
  const text = useQuery({ queryKey: keys.exchange(id), queryFn: () => exchangeText(id), retry: false });
  if (text.error) return <Trouble error={text.error} />;
  return (
    <>
      <div className="mb-2 flex items-center justify-between gap-3 text-small text-soft">
        <span>“&gt;” was sent, “&lt;” came back. Passwords are redacted.</span>
        <Copy text={text.data ?? ""} label="Copy all" />
      </div>
      <pre className="mono overflow-x-auto border bg-paper p-3 text-tiny leading-[18px]">{text.data ?? "…"}</pre>
    </>
  );
}
