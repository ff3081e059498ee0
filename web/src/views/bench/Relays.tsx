import { useState } from "react";
import { say } from "@/api/actions";
import type { Device, Relay, Stream } from "@/api/client";
import { useMay } from "@/api/queries";
import { revealRelay, useDeleteRelay, useRelays } from "@/api/relays";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { Sure } from "@/parts/Sure";
import { PageSheet } from "./PageSheet";
import { PushSheet } from "./PushSheet";
import { Sent, StopAll } from "./Sent";
import { RelaySheet } from "./RelaySheet";

/** Where the stream is served on, for targets that cannot take the camera's own. */
export function Relays({ site, device, stream }: { site: string; device: Device; stream: Stream }) {
  const relays = useRelays(site);
  const may = useMay();
  const [sheet, setSheet] = useState<"relay" | "push">();
  const sent = relays.data?.relays.filter((r) => r.push && !r.push.paused) ?? [];
  const own = relays.data?.relays.filter((r) => r.device === device.id && r.role === stream.role) ?? [];
  if (own.length === 0 && !may("work")) return null;
  return (
    <section aria-label="Served on" className="border-t px-4 py-3">
      <div className="flex items-center justify-between gap-3">
        <h3 className="font-semibold">Served on</h3>
        {may("work") && (
          <span className="flex flex-wrap justify-end gap-2">
            <Button look="quiet" onClick={() => setSheet("push")}>
              Send to a platform
            </Button>
            <Button onClick={() => setSheet("relay")}>Serve it on</Button>
          </span>
        )}
      </div>
      {sent.length > 0 && may("work") && <StopAll site={site} count={sent.length} />}
      {own.length === 0 && (
        <p className="mt-1 text-small text-soft">
          For a target that cannot take the camera’s own stream, or when the camera bears no more viewers: all take one session.
        </p>
      )}
      {own.length > 0 && own.every((r) => !r.url && !r.tls_url) && (
        <p role="status" className="mt-2 border-l-4 border-stuck bg-well px-3 py-2 text-small">
          <strong>No worker serves streams of this site.</strong> Start one with{" "}
          <span className="mono">unlatch worker --relay 0.0.0.0:8554</span>, or set <span className="mono">relay</span> in the server’s
          settings.
        </p>
      )}
      <ul className="mt-1">
        {own.map((r) => (
          <One key={r.id} site={site} relay={r} />
        ))}
      </ul>
      {sheet === "relay" && <RelaySheet site={site} device={device} stream={stream} onClose={() => setSheet(undefined)} />}
      {sheet === "push" && <PushSheet site={site} device={device} stream={stream} onClose={() => setSheet(undefined)} />}
    </section>
  );
}

function One({ site, relay: r }: { site: string; relay: Relay }) {
  const remove = useDeleteRelay(site);
  const may = useMay();
  const [secret, setSecret] = useState("");
  const [page, setPage] = useState(false);
  return (
    <li data-relay={r.path} className="border-t py-2 text-small first:border-t-0">
      <p className="flex flex-wrap items-baseline gap-x-3">
        <span className="font-semibold">for {r.for}</span>
        {r.as && <span>{r.as}</span>}
        <span className={r.problem ? "text-stuck" : "text-soft"}>{going(r)}</span>
      </p>
      {[r.url, r.tls_url, r.face_at]
        .filter((url) => url !== undefined)
        .map((url) => (
          <p key={url} className="flex items-center gap-2">
            <span className="mono min-w-0 [overflow-wrap:anywhere]">{url}</span>
            <Copy label="Copy" text={url} />
          </p>
        ))}
      {r.push && <Sent site={site} relay={r} />}
      <p className="flex flex-wrap items-center gap-2">
        <span>
          User <span className="mono">{r.user}</span>
          {secret && (
            <>
              , password <span className="mono">{secret}</span>
            </>
          )}
        </span>
        {secret ? (
          <Copy label="Copy" text={secret} />
        ) : (
          may("reveal") && (
            <Button
              look="quiet"
              className="h-6"
              onClick={() =>
                revealRelay(site, r.id)
                  .then((x) => setSecret(x.secret))
                  .catch(say)
              }
            >
              Show the password
            </Button>
          )
        )}
        <span className="grow" />
        {r.page && may("reveal") && (
          <Button look="quiet" className="h-6" onClick={() => setPage(true)}>
            Address for pages
          </Button>
        )}
        {may("work") && (
          <Sure
            ask={`Serve it on no more for ${r.for}?`}
            more="Whoever takes it now is let go at once."
            yes="Serve it no more"
            onYes={() => remove.mutate(r.id)}
          >
            <Button look="quiet" className="h-6">
              Remove
            </Button>
          </Sure>
        )}
      </p>
      {page && <PageSheet site={site} relay={r} onClose={() => setPage(false)} />}
    </li>
  );
}

/** How a relay goes, in a few words. */
function going(r: Relay) {
  if (r.problem) return `the camera did not play: ${r.problem}`;
  if (!r.told) return "no worker has told of it yet";
  if (r.takers === 0) return r.always ? "always on, nobody takes it now" : "nobody takes it now";
  const says = [r.takers === 1 ? "one takes it" : `${r.takers} take it`];
  if (r.fps) {
    const came = r.camera_fps ? ` of ${Number(r.camera_fps.toPrecision(2))} that come from the camera` : "";
    says.push(`${Number(r.fps.toPrecision(2))} pictures a second${came}, ${r.delay_ms?.toFixed(1)} ms later than they came`);
  }
  if (r.camera_lost) says.push(`${r.camera_lost} packets of the camera did not come`);
  if (r.lost) says.push(`${r.lost} packets lost since they were too slow`);
  return says.join(", ");
}
