import { RotateCw } from "lucide-react";
import { useState } from "react";
import type { Device } from "@/api/client";
import { say, useOpenLatches, useFix, useNearest, useTakeCertificate, useTune } from "@/api/actions";
import { useMay } from "@/api/queries";
import { useAttest, usePlace } from "@/api/targets";
import { AgreeForTarget } from "@/forms/AgreeForTarget";
import { Button } from "@/parts/Button";
import { PlaceMenu } from "@/parts/PlaceMenu";
import { LatchChain } from "@/parts/LatchChain";
import { isStuck, isWaiting, latchNames } from "@/parts/latches";
import { Countdown } from "./Countdown";
import { useFrame } from "@/parts/useFrame";
import { type Sending, StreamsPreview } from "@/parts/StreamsPreview";

const clock = (at: string) => new Date(at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" });

/** Opens the latches of devices; retry also tries again what they have refused. */
export type OnOpen = (list: Device[], retry?: boolean) => void;

/** The one thing to do next, with its reason and its button. */
export function NextStep({
  device: d,
  onAgree,
  onClaim,
  onStreamUser,
  onOpen,
}: {
  device: Device;
  onAgree: () => void;
  onClaim: () => void;
  onStreamUser: () => void;
  onOpen: OnOpen;
}) {
  const { addSignIn, changeSite, sweep, devices, site } = useFrame();
  const may = useMay();
  const again = useOpenLatches(site.id);
  const mend = useFix(site.id);
  const take = useTakeCertificate();
  const tune = useTune(site.id);
  const nearest = useNearest(site.id);
  const place = usePlace(site.id);
  const attest = useAttest(site.id);
  const [sending, setSending] = useState<Sending | null>(null);
  const [clash, setClash] = useState<string[]>([]);
  const stuck = isStuck(d);
  const waiting = isWaiting(d);
  const since = waiting ? d.latches.find((l) => l.name === d.at)?.since : undefined;
  const done = d.next.action === "none";
  const patient = waiting && d.next.action === "open"; // nobody has to do anything
  const edge = stuck ? "border-stuck" : done ? "border-open" : patient ? "border-hair" : "border-brass";
  const act = () => {
    if (d.next.action === "add_sign_in" || d.next.action === "wait") return addSignIn(d.next.reason, () => onOpen([d]), d);
    if (d.next.action === "agree" || d.next.action === "agree_weaker") return onAgree();
    if (d.next.action === "stream_user") return onStreamUser();
    if (d.next.action === "take_certificate")
      return take.mutate({ device: d.id, sha256: d.next.certificate ?? "" }, { onSuccess: () => onOpen([d]) });
    if (d.next.action === "streams_on") return mend.mutate({ action: "streams", devices: [d] }, { onError: say });
    if (d.next.action === "tune") return setSending({ devices: [d.id], plans: {} });
    if (d.next.action === "restart") return tune.mutate({ devices: [d.id], restart: true }, { onError: say });
    if (d.next.action === "nearest_plan")
      return nearest.mutate([d.id], {
        onError: say,
        onSuccess: ([x]) => {
          if (x && x.conflicts.length > 0)
            setClash(x.conflicts.map((c) => c.demands.map((y) => `${y.target} wants ${y.wants}`).join(", ")));
          else if (x) setSending({ devices: [d.id], plans: { [d.id]: x.plan } });
        },
      });
    const wrong = d.placements.filter((p) => p.diagnosis);
    if (d.next.action === "place_again")
      return place.mutate({ placements: wrong.map((p) => ({ device: d.id, target: p.target, slot: p.wanted || undefined, again: true })) });
    const unseen = d.placements.find((p) => p.kind === "template" && p.slot && !p.confirmed);
    if (d.next.action === "attest" && unseen) return attest.mutate({ devices: [d.id], target: unseen.target });
    if (d.next.action === "undo_tuning") return tune.mutate({ devices: [d.id], undo: true }, { onError: say });
    if (d.next.action === "sweep") return sweep();
    if (d.next.action === "change_ranges") return changeSite();
    if (d.next.action === "claim") return onClaim();
    if (d.next.action === "open_recorder") return onOpen(devices.filter((x) => x.id === d.via?.recorder));
    onOpen([d]);
  };
  return (
    <section aria-label="Next step" className={`mx-4 mb-3 border-l-4 bg-paper px-3 py-2.5 ${edge}`}>
      <div className="mb-2 flex items-center justify-between gap-3">
        <span className={`font-semibold ${stuck ? "text-stuck" : done ? "text-open" : waiting ? "" : "text-brass-text"}`}>
          {waiting && `Waiting at “${latchNames[d.at]}”${since ? `, since ${clock(since)}` : ""}`}
          {!waiting &&
            (stuck ? `${d.next.until ? "Waiting" : "Stuck"} at “${latchNames[d.at]}”` : done ? d.next.label : `Next: ${latchNames[d.at]}`)}
        </span>
        {!(d.kind === "recorder" && done) && <LatchChain latches={d.kind === "recorder" ? d.latches.slice(0, 3) : d.latches} />}
      </div>
      <p>{d.next.reason}</p>
      {d.next.fix && <p className="mt-1 text-soft">{d.next.fix}</p>}
      {clash.length > 0 && d.next.action === "nearest_plan" && (
        <p className="mt-1 text-stuck">No plan suits all its targets: {clash.join("; ")}. One of them has to take less.</p>
      )}
      <StreamsPreview site={site.id} sending={sending} close={() => setSending(null)} devices={[d]} />
      {d.next.certificate && <p className="mono mt-1 text-small break-all">SHA-256 {d.next.certificate}</p>}
      {d.next.until && (
        <p className="mt-2 text-lg leading-6">
          <Countdown until={d.next.until} /> <span className="text-small text-soft">until it is tried again, by itself</span>
        </p>
      )}
      <div className={`mt-2.5 flex flex-wrap gap-2 ${may("work") ? "" : "hidden"}`}>
        {d.next.action === "place" && <PlaceMenu site={site.id} cameras={[d]} brief next />}
        {d.next.action === "agree_target" && d.next.target && <AgreeForTarget site={site.id} target={d.next.target} devices={devices} />}
        {!done && d.next.action !== "place" && d.next.action !== "agree_target" && (
          <Button look={d.next.action === "wait" || patient ? "plain" : "next"} disabled={mend.isPending} onClick={act}>
            {d.next.label}
          </Button>
        )}
        {stuck && d.next.action === "stream_user" && (
          <Button onClick={() => addSignIn(d.next.reason, () => onOpen([d]), d)}>Add a sign-in</Button>
        )}
        {stuck &&
          d.next.action !== "open" &&
          d.next.action !== "wait" &&
          d.next.action !== "stream_user" &&
          d.next.action !== "change_ranges" && (
            <Button title="Sends again what it has refused, within the bound that keeps it from locking" onClick={() => onOpen([d], true)}>
              Try again
            </Button>
          )}
        {d.streams.length > 0 && !stuck && (
          <Button onClick={() => again.mutate({ devices: [d.id], again: true })}>
            <RotateCw size={14} /> Play again
          </Button>
        )}
      </div>
    </section>
  );
}

/** A clock that is off is a finding: recordings carry its time, and devices refuse sign-ins that look old. */
export function Clock({ device: d }: { device: Device }) {
  const { site } = useFrame();
  const mend = useFix(site.id);
  if (!d.skew_ms) return null;
  const s = Math.round(Math.abs(d.skew_ms) / 1000);
  const by = s < 120 ? `${s} s` : s < 7200 ? `${Math.round(s / 60)} min` : `${Math.round(s / 3600)} h`;
  const can = d.latches.some((l) => l.name === "signed_in" && l.state === "open");
  return (
    <section aria-label="Clock" className="mx-4 mb-3 flex items-center gap-3 border-l-4 border-stuck bg-paper px-3 py-2.5">
      <p className="grow">
        Its clock is {by} {d.skew_ms > 0 ? "ahead" : "behind"}: recordings will carry the wrong time.
      </p>
      {can && (
        <Button disabled={mend.isPending} onClick={() => mend.mutate({ action: "clock", devices: [d] }, { onError: say })}>
          Set it right
        </Button>
      )}
    </section>
  );
}
