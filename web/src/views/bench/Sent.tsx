import type { Relay } from "@/api/client";
import { useMay } from "@/api/queries";
import { usePausePush, useStopPushes } from "@/api/relays";
import { Button } from "@/parts/Button";

/** Stops all that the site sends to live platforms, in one click. */
export function StopAll({ site, count }: { site: string; count: number }) {
  const stop = useStopPushes(site);
  return (
    <p className="mt-2 flex items-center justify-between gap-3 border-l-4 border-next bg-well px-3 py-1.5 text-small">
      {count === 1 ? "One stream of this site is sent to a live platform." : `${count} streams of this site are sent to live platforms.`}
      <Button className="h-7 whitespace-nowrap" disabled={stop.isPending} onClick={() => stop.mutate(undefined)}>
        Stop sending
      </Button>
    </p>
  );
}

const sending: Record<string, string> = {
  connecting: "connecting",
  sending: "sending",
  refused: "turned down",
  broken: "broken off, tried again",
  no_stream: "the stream does not come",
  off_hours: "rests outside its hours",
  stopped: "stopped",
};

/** How sending to a live platform goes, with what stops and begins it. */
export function Sent({ site, relay: r }: { site: string; relay: Relay }) {
  const pause = usePausePush(site);
  const may = useMay();
  const paused = !!r.push?.paused;
  const state = paused ? "stopped" : (r.sent?.state ?? "");
  const ill = state === "refused" || state === "broken" || state === "no_stream";
  return (
    <p data-push={state} className="flex flex-wrap items-center gap-x-2">
      Sent to <span className="mono min-w-0 [overflow-wrap:anywhere]">{r.push?.to}</span>
      <span className={ill ? "text-stuck" : state === "sending" ? "text-open" : "text-soft"}>
        {sending[state] ?? "no worker has told of it yet"}
        {r.sent?.since && !paused && !ill && ` since ${new Date(r.sent.since).toLocaleTimeString(undefined, { timeStyle: "short" })}`}
        {ill && r.sent?.says && `: ${r.sent.says}`}
      </span>
      {may("work") && (
        <Button look="quiet" className="h-6" disabled={pause.isPending} onClick={() => pause.mutate({ id: r.id, paused: !paused })}>
          {paused ? "Begin again" : "Stop"}
        </Button>
      )}
    </p>
  );
}
