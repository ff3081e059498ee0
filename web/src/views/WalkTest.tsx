import { Check as CheckMark, X } from "lucide-react";
import { useState } from "react";
import type { Device } from "@/api/client";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { useKeys } from "@/parts/keys";
import { LivePicture } from "@/parts/LivePicture";
import { useFrame } from "./SiteFrame";

/** The stream to look at among several: the sub stream, which is made for it, else what there is. */
const small = (d: Device) => (d.streams.find((s) => s.role === "sub" && s.proof?.ok) ?? d.streams.find((s) => s.proof?.ok))!.role;

const time = (at: Date) => at.toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", second: "2-digit" });

/**
 * Up to nine cameras at once, for somebody who walks past them: a digit, or a touch of its mark, says that the walker was seen in its picture.
 */
export function WalkTest({ cameras, onLarge, onEnd }: { cameras: Device[]; onLarge: (d: Device) => void; onEnd: () => void }) {
  const { site } = useFrame();
  const [seen, setSeen] = useState<Record<string, Date>>({});
  const mark = (d?: Device) => {
    if (!d) return;
    setSeen((all) => {
      const { [d.id]: was, ...rest } = all;
      return was ? rest : { ...all, [d.id]: new Date() };
    });
  };
  useKeys(Object.fromEntries(cameras.map((d, i) => [String(i + 1), () => mark(d)])), true);
  useKeys({ Escape: onEnd });
  const count = cameras.filter((d) => seen[d.id]).length;
  const columns = cameras.length <= 1 ? "" : cameras.length <= 4 ? "sm:grid-cols-2" : "sm:grid-cols-3";
  const report = [
    `Walk test of ${site.name}, ${new Date().toLocaleDateString()}`,
    ...cameras.map((d) => `${d.name} (${d.address}): ${seen[d.id] ? `seen at ${time(seen[d.id]!)}` : "not seen"}`),
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
        <Button look="quiet" aria-label="End the walk test" title="End the walk test (Esc)" className="px-2" onClick={onEnd}>
          <X size={16} />
        </Button>
      </div>
      <div className={`grid min-h-0 grow auto-rows-fr gap-2 overflow-auto p-2 ${columns}`}>
        {cameras.map((d, i) => (
          <figure key={d.id} className="flex min-h-44 min-w-0 flex-col">
            <LivePicture device={d.id} role={small(d)} name={d.name} className="min-h-0 w-full grow">
              <button
                type="button"
                aria-pressed={!!seen[d.id]}
                aria-label={`${i + 1}: the walker was seen by ${d.name}`}
                onClick={() => mark(d)}
                className={`mono absolute top-1.5 left-1.5 flex h-8 min-w-8 items-center justify-center gap-1 rounded-sm px-2 text-lead font-semibold max-sm:h-10 ${
                  seen[d.id] ? "bg-[#1a7564] text-white" : "bg-white/90 text-black hover:bg-white"
                }`}
              >
                {i + 1}
                {seen[d.id] && <CheckMark size={16} />}
              </button>
            </LivePicture>
            <figcaption className="flex items-baseline gap-2 pt-1 text-small">
              <button type="button" className="truncate font-semibold hover:underline" title="Show it large" onClick={() => onLarge(d)}>
                {d.name}
              </button>
              <span className="num text-soft">{seen[d.id] ? `seen at ${time(seen[d.id]!)}` : ""}</span>
            </figcaption>
          </figure>
        ))}
      </div>
    </div>
  );
}
