import { Radar } from "lucide-react";
import { Switch } from "radix-ui";
import { useMemo, useRef } from "react";
import type { Device } from "@/api/client";
import { say, useWatch } from "@/api/actions";
import { useRuns } from "@/api/queries";
import { Button } from "@/parts/Button";
import { ago } from "@/parts/measures";
import { useInSteps } from "./useInSteps";
import { useMedia } from "@/parts/useMedia";
import { Storms } from "@/parts/Findings";
import { Fields } from "./AddressField";
import { Heard } from "./Heard";
import { useFrame } from "@/parts/useFrame";
import { Strays } from "./Strays";

/** What is on the wire: the address field, the devices heard, and the shelf of strays. */
export function Find() {
  const { site, devices: now, sweep, changeSite } = useFrame();
  const devices = useInSteps(now, 150);
  const runs = useRuns(site.id);
  const scroller = useRef<HTMLDivElement>(null);
  const wide = useMedia("(min-width: 1024px)"); // narrower, the strays stand below and all scrolls as one
  const running = runs.data?.find((r) => r.kind === "sweep" && r.state === "running");
  const last = runs.data?.find((r) => r.kind === "sweep");
  const inside = useMemo(() => devices.filter((d) => !d.stray), [devices]);
  const strays = useMemo(() => devices.filter((d) => d.stray), [devices]);
  return (
    <div className="flex h-full flex-col">
      <div className="flex min-h-14 shrink-0 flex-wrap items-center gap-3 border-b px-4 py-2">
        <Button look={inside.length === 0 && !running ? "next" : "plain"} className="h-9" disabled={!!running} onClick={sweep}>
          <Radar size={16} /> {running ? "Sweeping …" : last ? "Sweep again" : "Sweep the site"}
        </Button>
        <span>
          <span className="mono">{site.ranges.join(", ")}</span>{" "}
          <span className="num text-soft">{site.addresses.toLocaleString("en")} addresses</span>
        </span>
        <Button look="quiet" onClick={changeSite}>
          Change
        </Button>
        <Watching />
        <span className="grow" />
        <span className="num text-soft">
          {many(inside, "camera")} · {many(inside, "recorder")} · {many(inside, "other")}
          {last && ` · ${running ? "sweeping now" : `swept ${ago(last.created_at)}`}`}
        </span>
      </div>
      <div ref={wide ? undefined : scroller} className="relative min-h-0 grow max-lg:overflow-auto lg:flex">
        <div ref={wide ? scroller : undefined} className="relative grow lg:min-h-0 lg:overflow-auto">
          <Storms />
          <Fields site={site} devices={inside} />
          {inside.length === 0 ? (
            <div className="p-10 text-center">
              <p className="mb-1 text-lg">{running ? "Listening …" : "Nothing heard yet"}</p>
              <p className="text-soft">
                {running
                  ? "Devices appear here as they answer."
                  : "A sweep calls for cameras on this wire and asks every address of the ranges which ports are open. " +
                    "It changes nothing on any device."}
              </p>
            </div>
          ) : (
            <Heard site={site.id} devices={inside} scroller={scroller} />
          )}
        </div>
        <Strays devices={strays} all={devices} />
      </div>
    </div>
  );
}

/** Whether what devices announce by themselves is listened to between sweeps. */
function Watching() {
  const { site } = useFrame();
  const watch = useWatch(site.id);
  return (
    <label
      className="flex items-center gap-2"
      title="A device that is plugged in announces itself and shows up without a sweep. Listening asks nothing of any device."
    >
      <Switch.Root
        checked={site.watch}
        disabled={watch.isPending}
        onCheckedChange={(on) => watch.mutate(on, { onError: say })}
        className="relative h-4 w-7 rounded-full bg-hair data-[state=checked]:bg-open"
      >
        <Switch.Thumb
          className="block size-3 translate-x-0.5 rounded-full bg-sheet transition-transform
          data-[state=checked]:translate-x-3.5"
        />
      </Switch.Root>
      {site.watch ? "Listening for newcomers" : "Not listening"}
    </label>
  );
}

function many(list: Device[], kind: string) {
  const n = list.filter((d) => d.kind === kind).length;
  return `${n} ${kind}${n === 1 ? "" : "s"}`;
}
