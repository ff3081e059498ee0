import { QrCode } from "lucide-react";
import { useState } from "react";
import type { Stream } from "@/api/client";
import { say } from "@/api/actions";
import { Copy } from "@/parts/Copy";
import { QrSheet } from "./QrSheet";
import { Tip } from "@/parts/Tip";

type Props = { stream: Stream; name: string; reveal: () => Promise<string> };

/** A stream URL as labelled segments. A part that is proven by play has a solid line under it, one that is only known a dashed one. */
export function UrlSegments({ stream, name, reveal }: Props) {
  const [scan, setScan] = useState(false);
  return (
    <div>
      <div className="mb-1 text-small text-soft">URL of the {stream.role} stream</div>
      <ol className="flex flex-wrap gap-x-1 gap-y-2" aria-label={`URL of the ${stream.role} stream`}>
        {stream.segments.map((s) => (
          <li key={s.part} className="min-w-0">
            <Tip text={`${s.confirmed ? "Confirmed by play" : "Not played yet"}; from ${s.source}`}>
              <span
                tabIndex={0}
                className={`mono block border-b-2 bg-well px-1.5 py-0.5 break-all
                  ${s.confirmed ? "border-open" : "border-dashed border-soft"}`}
              >
                {s.text || "/"}
              </span>
            </Tip>
            <span className="px-1.5 text-tiny leading-4 text-soft">{s.part}</span>
          </li>
        ))}
      </ol>
      <div className="mt-1.5 -ml-1 flex flex-wrap gap-x-3">
        <Copy text={stream.url} label="Copy without sign-in" />
        <Copy
          text={() =>
            reveal().catch((e: unknown) => {
              say(e);
              return Promise.reject(e);
            })
          }
          label="Copy with sign-in"
        />
        <button
          type="button"
          className="inline-flex min-h-6 items-center gap-1 rounded-sm px-1 text-small text-soft hover:bg-well hover:text-ink"
          onClick={() => setScan(true)}
        >
          <QrCode size={14} /> QR code
        </button>
      </div>
      {scan && <QrSheet title={`${name}, ${stream.role} stream`} url={stream.url} reveal={reveal} onClose={() => setScan(false)} />}
    </div>
  );
}
