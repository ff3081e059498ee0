import { ArrowRight, TriangleAlert } from "lucide-react";
import { useEffect } from "react";
import { usePreview, useTune } from "@/api/actions";
import type { Device, Left, Preview } from "@/api/client";
import { Button } from "./Button";
import { Foot } from "./Foot";
import { bitrate } from "./measures";
import { Sheet } from "./Sheet";

const names: Record<string, string> = {
  codec: "codec",
  profile: "profile",
  size: "size",
  fps: "frame rate",
  bitrate_kbps: "kbit/s",
  rate_control: "rate control",
  gop_frames: "GOP",
  quality: "quality",
  audio: "sound",
  stream: "stream",
};

type Row = Preview["rows"][number];

/** What is about to be sent, and to whom: the plans of devices, with those given here in place of what is planned. */
export type Sending = { devices: string[]; plans: Record<string, Record<string, string>> };

/** What is about to be sent, camera by camera, before anything is; and its button. */
export function StreamsPreview({
  site,
  sending,
  close,
  onSent,
  devices,
}: {
  site: string;
  sending: Sending | null;
  close: () => void;
  onSent?: (devices: string[]) => void;
  devices: Device[];
}) {
  const weigh = usePreview(site);
  const tune = useTune(site);
  const { mutate, reset } = weigh;
  const clear = tune.reset;
  useEffect(() => {
    reset();
    clear();
    if (sending) mutate(sending);
  }, [sending, mutate, reset, clear]);
  const preview = weigh.data;
  const error = weigh.error ?? tune.error;
  const send = (ids: string[]) =>
    tune.mutate(
      { devices: ids, plans: Object.fromEntries(Object.entries(sending?.plans ?? {}).filter(([id]) => ids.includes(id))) },
      {
        onSuccess: () => {
          close();
          onSent?.(ids);
        },
      },
    );
  const rows = preview?.rows ?? [];
  const act = rows.filter((r) => r.unknown || hasWork(r));
  const sent = act.filter((r) => !r.cannot && (r.unknown || r.preview?.overlay || r.preview?.streams.some((s) => s.changes.length > 0)));
  const same = rows.length - act.length;
  const byId = new Map(devices.map((d) => [d.id, d]));
  const left = act.filter((r) => r.cannot).map((r) => leftOut(r, byId.get(r.device)?.name ?? ""));
  return (
    <Sheet title="Before it is sent" open={sending !== null} onOpenChange={(o) => !o && close()} wide>
      {!preview && !error && <p className="text-soft">Weighing what is wanted against what each camera offers …</p>}
      {preview && (
        <>
          <Costs preview={preview} />
          <ul className="divide-y border-y">
            {act.map((r) => (
              <li
                key={r.device}
                className="grid grid-cols-[11rem_1fr] gap-x-4 py-2 max-sm:grid-cols-1"
                data-preview={byId.get(r.device)?.name}
              >
                <span className="truncate font-medium">{byId.get(r.device)?.name}</span>
                <div className="min-w-0 space-y-0.5">
                  {r.unknown && <p className={r.cannot ? "text-stuck" : "text-soft"}>{r.unknown}</p>}
                  <Changes row={r} />
                  {(r.cannot || r.preview?.streams.some((x) => x.refused.length > 0)) && byId.get(r.device)?.web && (
                    <a className="text-small underline" href={byId.get(r.device)?.web} target="_blank" rel="noreferrer">
                      its own page
                    </a>
                  )}
                </div>
              </li>
            ))}
          </ul>
          {act.length === 0 && <p className="py-3">Every camera that was chosen is set as planned already. Nothing would be sent.</p>}
          {same > 0 && act.length > 0 && (
            <p className="mt-2 text-small text-soft">
              {same} {same === 1 ? "camera is" : "cameras are"} set as planned already.
            </p>
          )}
        </>
      )}
      <Foot error={error ?? tune.error} left={tune.data?.left ?? left}>
        <Button
          look="next"
          className="h-9"
          disabled={!preview || sent.length === 0 || tune.isPending}
          onClick={() => send(sent.map((r) => r.device))}
        >
          Set and measure {sent.length} {sent.length === 1 ? "camera" : "cameras"}
        </Button>
        <Button look="quiet" onClick={close}>
          Not yet
        </Button>
        <span className="text-small text-soft max-sm:hidden">How each is set now is kept first, so that all of it can be put back.</span>
      </Foot>
    </Sheet>
  );
}

/** A camera that cannot be set, as it is told beside the button. */
const leftOut = (r: Row, name: string): Left => {
  const reason = r.unknown || "What is wanted would be refused, as is said above.";
  return { device: r.device, name, cause: reason, reason, fix: "" };
};

const hasWork = (r: Row) =>
  !!r.preview &&
  (r.preview.streams.some((s) => s.changes.length > 0 || s.refused.length > 0 || (s.kept?.length ?? 0) > 0) || !!r.preview.overlay);

function Changes({ row: r }: { row: Row }) {
  if (!r.preview) return null;
  return (
    <>
      {r.preview.streams.map(
        (s) =>
          (s.changes.length > 0 || s.refused.length > 0 || (s.kept?.length ?? 0) > 0) && (
            <div key={s.role}>
              <span className="mr-2 text-soft">{s.role}</span>
              {s.changes.map((c) => (
                <span key={c.field} className="mr-3 inline-block whitespace-nowrap">
                  <span className="text-small text-soft">{names[c.field] ?? c.field}</span>{" "}
                  <span className="mono">
                    {c.from || "–"} <ArrowRight size={12} className="inline" aria-label="becomes" /> {c.to || "–"}
                  </span>
                  {c.asked !== c.to && <span className="text-small text-brass-text"> asked {c.asked}, nearest it offers</span>}
                </span>
              ))}
              {s.kept?.map((c) => (
                <span key={c.field} className="mr-3 inline-block text-small text-brass-text">
                  {names[c.field] ?? c.field} asked <span className="mono">{c.asked}</span>: it stays <span className="mono">{c.to}</span>,
                  the nearest it offers
                </span>
              ))}
              {s.refused.map((x) => (
                <p key={x.field} className="text-stuck">
                  {x.asked} will be refused: {x.why}
                </p>
              ))}
            </div>
          ),
      )}
      {r.preview.overlay && <p>Text in its picture: {r.preview.overlay}</p>}
      {r.preview.warnings.map((w) => (
        <p key={w} className="text-brass-text">
          <TriangleAlert size={13} className="mr-1 inline" aria-hidden />
          {w}
        </p>
      ))}
      {r.targets.map((t) => {
        const before = t.before.length === 0;
        const after = t.after.length === 0;
        if (before === after && after) return null;
        return (
          <p key={t.target} className={after ? "text-open" : "text-stuck"}>
            {after
              ? `${t.target} will take it`
              : `${t.target} ${before ? "will take it no more" : "takes it neither before nor after"}: ${misfits(t.after)}`}
          </p>
        );
      })}
    </>
  );
}

const misfits = (list: Row["targets"][number]["after"]) => list.map((x) => `${x.field} ${x.has}, wants ${x.wants}`).join("; ");

function Costs({ preview: p }: { preview: Preview }) {
  const before = p.rows.reduce((sum, r) => sum + r.kbps_before, 0);
  const after = p.rows.reduce((sum, r) => sum + r.kbps_after, 0);
  const days = (v: number) => (v >= 100 ? v.toFixed(0) : v.toFixed(1));
  return (
    <p className="num mb-3 flex flex-wrap gap-x-6 gap-y-1">
      <span>
        These cameras: {bitrate(before)} <ArrowRight size={13} className="inline" aria-label="becomes" /> <strong>{bitrate(after)}</strong>
      </span>
      {p.before && p.after && p.before.days > 0 && (
        <>
          <span>
            Recording: {days(p.before.days)} <ArrowRight size={13} className="inline" aria-label="becomes" />{" "}
            <strong>{days(p.after.days)} days</strong>
          </span>
          <span>
            Into the recorder: {p.before.inbound_mbps.toFixed(1)} <ArrowRight size={13} className="inline" aria-label="becomes" />{" "}
            <strong>{p.after.inbound_mbps.toFixed(1)} Mbit/s</strong>
          </span>
        </>
      )}
    </p>
  );
}
