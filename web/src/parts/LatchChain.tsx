import type { Latch } from "@/api/client";
import { latchNames, stateNames } from "./latches";
import { Tip } from "./Tip";

/** One notch: each state has its own shape, so that colour is never the only sign. Drawn in a 12 x 14 box. */
export function Notch({ state }: { state: Latch["state"] }) {
  switch (state) {
    case "open": // the bolt is drawn
      return <rect x="2.5" y="1" width="7" height="12" rx="1.5" className="fill-open" />;
    case "next": // a key's bow, brass
      return <path d="M6 1.5 11.5 7 6 12.5.5 7Z" className="fill-brass" />;
    case "stuck":
      return <path d="M2 3l8 8M10 3l-8 8" className="stroke-stuck" strokeWidth="2.6" strokeLinecap="round" />;
    case "waiting": // an hourglass
      return <path d="M2.5 1.5h7L2.5 12.5h7Z" fill="none" className="stroke-ink" strokeWidth="1.5" strokeLinejoin="round" />;
    case "waived":
      return <path d="M2 7h8" className="stroke-soft" strokeWidth="2" strokeLinecap="round" strokeDasharray="3 2.4" />;
    case "stale": // open once; the outline is left
      return (
        <rect
          x="3.25"
          y="1.75"
          width="5.5"
          height="10.5"
          rx="1.5"
          fill="none"
          className="stroke-open"
          strokeWidth="1.5"
          strokeDasharray="2.4 1.8"
        />
      );
    default:
      return <circle cx="6" cy="7" r="1.9" fill="none" className="stroke-soft" strokeWidth="1.2" />;
  }
}

/** The eight-notch chain of a device. */
export function LatchChain({ latches }: { latches: Latch[] }) {
  const said = latches.map((l) => `${latchNames[l.name]} ${stateNames[l.state]}`).join(", ");
  return (
    <Tip
      text={
        <ul className="space-y-0.5 py-0.5">
          {latches.map((l) => (
            <li key={l.name} className="flex gap-2">
              <svg width="12" height="14" className="mt-0.5 shrink-0 rounded-[2px] bg-paper" aria-hidden>
                <Notch state={l.state} />
              </svg>
              <span>
                <b className="font-semibold">{latchNames[l.name]}</b> {l.reason || stateNames[l.state]}
              </span>
            </li>
          ))}
        </ul>
      }
    >
      <svg width="128" height="14" role="img" aria-label={said} className="shrink-0">
        <path d="M6 7H122" className="stroke-hair" strokeWidth="1.5" />
        {latches.map((l, i) => (
          <g key={l.name} transform={`translate(${i * 16.5} 0)`}>
            {l.state === "closed" && <circle cx="6" cy="7" r="3" className="fill-sheet" />}
            <Notch state={l.state} />
          </g>
        ))}
      </svg>
    </Tip>
  );
}
