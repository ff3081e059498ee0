import type { Device } from "@/api/client";
import { funnel, latchNames } from "@/parts/latches";

/** How many cameras wait at each latch. A click filters the list; a second click shows all again. */
export function Funnel({ devices, at, onChange }: { devices: Device[]; at: string | null; onChange: (at: string | null) => void }) {
  const counts = funnel(devices);
  // Nobody has said how any stream shall be set.
  const untuned = devices.every((d) => d.latches.find((l) => l.name === "tuned")?.state === "waived");
  return (
    <div role="group" aria-label="Cameras waiting at each latch" className="grid grid-cols-4 border-y sm:grid-cols-9">
      {[...Object.keys(latchNames), ""].map((key) => {
        const { waiting, stuck, forOthers } = counts[key]!;
        const on = at === key;
        return (
          <button
            key={key || "done"}
            type="button"
            aria-pressed={on}
            disabled={waiting === 0 && !on}
            onClick={() => onChange(on ? null : key)}
            className={`relative flex flex-col items-start gap-0.5 border-r px-3 py-1.5 text-left last:border-r-0
              enabled:hover:bg-well ${on ? "bg-well" : ""}`}
          >
            {on && <span className="absolute inset-x-0 bottom-0 h-0.5 bg-ink" />}
            <span className={`text-small ${waiting ? "text-ink" : "text-soft"}`}>{latchNames[key] ?? "All open"}</span>
            <span className="flex items-baseline gap-2">
              {key === "tuned" && waiting === 0 && untuned ? (
                <span className="text-tiny leading-6 whitespace-nowrap text-soft">passed over</span>
              ) : (
                <span
                  className={`num text-xl leading-6 font-semibold ${waiting ? (key === "" ? "text-open" : "") : "text-soft opacity-50"}`}
                >
                  {waiting}
                </span>
              )}
              {forOthers > 0 && stuck === 0 && (
                <span className="text-small text-soft">{forOthers === waiting ? "waiting" : `${forOthers} waiting`}</span>
              )}
              {stuck > 0 && <span className="text-small font-medium text-stuck">{stuck === waiting ? "stuck" : `${stuck} stuck`}</span>}
            </span>
          </button>
        );
      })}
    </div>
  );
}
