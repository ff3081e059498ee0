import { Check as CheckMark, X } from "lucide-react";
import { useState } from "react";
import { useWalk } from "@/api/actions";
import type { Device } from "@/api/client";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { useKeys } from "@/parts/keys";
import { LivePicture } from "@/parts/LivePicture";
import { useFrame } from "@/parts/useFrame";

/** The stream to look at among several: the sub stream, which is made for it, else what there is. */
const small = (d: Device) => (d.streams.find((s) => s.role === "sub" && s.proof?.ok) ?? d.streams.find((s) => s.proof?.ok))!.role;

const time = (at: string) => new Date(at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", second: "2-digit" });

/**
 * When each camera had last been seen before this walk test began, by the server's clock. It is kept for a reload of the page, and for a
 * look at one camera alone in between.
 */
function useBefore(place: string, cameras: Device[]) {
  const [before] = useState<Record<string, string>>(() => {
    const kept = sessionStorage.getItem(place);
    if (kept) return JSON.parse(kept);
    const now = Object.fromEntries(cameras.map((d) => [d.id, d.walked?.at ?? ""]));
    sessionStorage.setItem(place, JSON.stringify(now));
    return now;
  });
  return before;
}

/**
 * Up to nine cameras at once, for somebody who walks past them: a digit, or a touch of its mark, says that the walker was seen in
 * its picture.
 * That goes into the camera's evidence at once.
 */
export function WalkTest({ cameras, onLarge, onEnd }: { cameras: Device[]; onLarge: (d: Device) => void; onEnd: () => void }) {
  const { site } = useFrame();
  const place = `walk-${cameras.map((d) => d.id).join()}`;
  const before = useBefore(place, cameras);
  const walk = useWalk(site.id);
  // What was said a moment ago, until the camera's own record tells it.
  const [said, setSaid] = useState<Record<string, string>>({});
  const seenAt = (d: Device) => said[d.id] ?? (d.walked && d.walked.at !== before[d.id] ? d.walked.at : "");
  const mark = (d?: Device) => {
    if (!d) return;
    const unsaid = seenAt(d) !== "";
    setSaid((all) => ({ ...all, [d.id]: unsaid ? "" : new Date().toISOString() }));
    walk.mutate(
      { device: d.id, unsaid },
      {
        onError: () =>
          setSaid((all) => {
            const { [d.id]: _, ...rest } = all;
            return rest;
          }),
      },
    );
  };
  const end = () => {
    sessionStorage.removeItem(place);
    onEnd();
  };
  useKeys(Object.fromEntries(cameras.map((d, i) => [String(i + 1), () => mark(d)])), true);
  useKeys({ Escape: end });
  const count = cameras.filter(seenAt).length;
  const columns = cameras.length <= 1 ? "" : cameras.length <= 4 ? "sm:grid-cols-2" : "sm:grid-cols-3";
  const report = [
    `Walk test of ${site.name}, ${new Date().toLocaleDateString()}`,
    ...cameras.map((d) => `${d.name} (${d.address}): ${seenAt(d) ? `seen at ${time(seenAt(d))}` : "not seen"}`),
  ].join("\n");
  return (
    <div className="flex h-full flex-col" data-walk={cameras.length}>
      <div className="flex min-h-12 shrink-0 flex-wrap items-center gap-3 border-b px-4 py-2">
        <h2 className="text-lg font-semibold">Walk test</h2>
        <span className="num" role="status">
          {count} of {cameras.length} seen
        </span>
        <span className="text-soft max-md:hidden">Walk past a camera and press its number when you show in its picture.</span>
        <span className="grow" />
        <Copy text={report} label="Copy the result" />
        <Button look="quiet" aria-label="End the walk test" title="End the walk test (Esc)" className="px-2" onClick={end}>
          <X size={16} />
        </Button>
      </div>
      <div className={`grid min-h-0 grow auto-rows-fr gap-2 overflow-auto p-2 ${columns}`}>
        {cameras.map((d, i) => (
          <figure key={d.id} className="flex min-h-44 min-w-0 flex-col">
            <LivePicture device={d.id} role={small(d)} name={d.name} className="min-h-0 w-full grow">
              <button
                type="button"
                aria-pressed={seenAt(d) !== ""}
                aria-label={`${i + 1}: the walker was seen by ${d.name}`}
                onClick={() => mark(d)}
                className={`mono absolute top-1.5 left-1.5 flex h-8 min-w-8 items-center justify-center gap-1 rounded-sm px-2
                  text-lead font-semibold max-sm:h-10 ${seenAt(d) ? "bg-[#1a7564] text-white" : "bg-white/90 text-black hover:bg-white"}`}
              >
                {i + 1}
                {seenAt(d) && <CheckMark size={16} />}
              </button>
            </LivePicture>
            <figcaption className="flex items-baseline gap-2 pt-1 text-small">
              <button type="button" className="truncate font-semibold hover:underline" title="Show it large" onClick={() => onLarge(d)}>
                {d.name}
              </button>
              <span className="num text-soft">{seenAt(d) ? `seen at ${time(seenAt(d))}` : ""}</span>
            </figcaption>
          </figure>
        ))}
      </div>
    </div>
  );
}
