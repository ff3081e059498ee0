import { useState } from "react";
import type { Target } from "@/api/client";
import { useRule, useShow } from "@/api/targets";
import { Button } from "@/parts/Button";

/** Shows a camera on one of the hub's screens, now. In brief the screens' names alone stand on the buttons. */
export function ShowOn({ device, target: t, site, brief }: { device: string; target: Target; site: string; brief?: boolean }) {
  const show = useShow(site);
  return (t.about?.screens ?? []).map((screen) => (
    <Button key={screen} aria-label={`Show on ${screen}`} onClick={() => show.mutate({ device, target: t.id, screen })}>
      {brief ? screen : `Show on ${screen}`}
    </Button>
  ));
}

/** When a hub shows the camera by itself. */
export function Rule({ device, target: t, site }: { device: string; target: Target; site: string }) {
  const rule = useRule(site);
  const screens = t.about?.screens ?? [];
  const [event, setEvent] = useState("");
  const [screen, setScreen] = useState(screens[0] ?? "");
  return (
    <span className="flex flex-wrap items-center gap-1">
      Show it on
      <select
        aria-label="Screen of the rule"
        className="h-7 rounded-md border bg-sheet px-1 text-ink"
        value={screen}
        onChange={(e) => setScreen(e.target.value)}
      >
        {screens.map((s) => (
          <option key={s}>{s}</option>
        ))}
      </select>
      when
      <input
        aria-label="Topic of the event"
        placeholder="house/bell"
        className="mono h-7 w-36 rounded-md border bg-sheet px-1.5 text-ink"
        value={event}
        onChange={(e) => setEvent(e.target.value)}
      />
      comes
      <Button className="h-7" onClick={() => rule.mutate({ device, target: t.id, event, screen })}>
        {event ? "Set the rule" : "No rule"}
      </Button>
    </span>
  );
}
