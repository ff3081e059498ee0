import type { Stream } from "@/api/client";
import { Copy } from "./Copy";
import { Tip } from "./Tip";

/** A stream URL as labelled segments. A part that is proven by play has a solid line under it, one that is only known a dashed one. */
export function UrlSegments({ stream }: { stream: Stream }) {
  return (
    <div>
      <div className="mb-1 flex items-center justify-between gap-2">
        <span className="text-[13px] text-soft">URL of the {stream.tier} stream</span>
        <Copy text={stream.url} label="Copy without sign-in" />
      </div>
      <ol className="flex flex-wrap gap-x-1 gap-y-2" aria-label={`URL of the ${stream.tier} stream`}>
        {stream.segments.map((s) => (
          <li key={s.part} className="min-w-0">
            <Tip text={`${s.confirmed ? "Confirmed by play" : "Not played yet"}; from ${s.source}`}>
              <span tabIndex={0} className={`mono block border-b-2 bg-well px-1.5 py-0.5 break-all ${s.confirmed ? "border-open" : "border-dashed border-soft"}`}>
                {s.text || "/"}
              </span>
            </Tip>
            <span className="px-1.5 text-[12px] leading-4 text-soft">{s.part}</span>
          </li>
        ))}
      </ol>
    </div>
  );
}
