import { Link } from "react-router";
import type { Device } from "@/api/client";
import { backToBefore, say, useForget, usePaste, useSetAddress, useFix } from "@/api/actions";
import { useTakeOff } from "@/api/targets";
import { Button } from "@/parts/Button";
import { cordText } from "@/parts/patch";
import { PlaceMenu } from "@/parts/PlaceMenu";
import { Copy } from "@/parts/Copy";
import { ago, fps, stillUrl } from "@/parts/measures";
import { Still } from "@/parts/Still";
import { useFrame } from "@/parts/useFrame";
import { Sure } from "@/parts/Sure";

/** What the device shows over HTTP, fetched and looked at: streams of their own beside the RTSP ones. */
export function Pictures({ device: d }: { device: Device }) {
  const { site } = useFrame();
  const take = usePaste(site.id);
  const list = [
    ["Snapshot", d.snapshot],
    ["Motion JPEG", d.mjpeg],
  ] as const;
  if (!d.snapshot && !d.mjpeg) return null;
  return (
    <section className="space-y-2 border-t px-4 py-3 text-small" aria-label="Pictures over HTTP">
      {list.map(
        ([name, p]) =>
          p && (
            <div key={name} data-picture={name} className="flex items-start gap-3">
              <Still src={p.still ? stillUrl(p.still) : undefined} name={`${d.name}, ${name}`} className="aspect-video w-20 shrink-0" />
              <div className="min-w-0">
                <div>
                  {name}{" "}
                  <span className="mono">
                    {p.width}×{p.height}
                    {p.fps ? ` · ${fps(p.fps)}` : ""}
                  </span>{" "}
                  <span className="text-soft">signed in by {p.scheme}</span>
                </div>
                <div className="mono break-all">{p.url}</div>
                <span className="-ml-1 flex flex-wrap items-center gap-x-3">
                  <Copy text={p.url} label="Copy without sign-in" />
                  {!d.streams.some((s) => s.url === p.url) && (
                    <button
                      type="button"
                      disabled={take.isPending}
                      className="inline-flex min-h-6 items-center rounded-sm px-1 underline hover:bg-well"
                      onClick={() => take.mutate({ text: p.url, path: "", channels: 1 }, { onError: say })}
                    >
                      Use it as a stream
                    </button>
                  )}
                </span>
              </div>
            </div>
          ),
      )}
    </section>
  );
}

const fixNames: Record<string, string> = { streams: "Stream service switched on", clock: "Clock set", stream_user: "Stream user made" };

/** What Unlatch has changed on the device, each to be taken back. */
export function Fixes({ device: d }: { device: Device }) {
  const { site } = useFrame();
  const mend = useFix(site.id);
  if (!d.fixes || d.fixes.length === 0) return null;
  return (
    <section className="border-t px-4 py-3 text-small" aria-label="Changed on the device">
      {d.fixes.map((r) => (
        <div key={r.action} className="flex items-center gap-2 py-0.5">
          <span className="grow">
            {fixNames[r.action]}{" "}
            <span className="text-soft">
              ({r.action === "clock" ? `it was off by ${r.before}` : r.action === "stream_user" ? r.after : `before: ${r.before}`})
            </span>
          </span>
          <Button
            className="h-7"
            disabled={mend.isPending}
            onClick={() => mend.mutate({ action: r.action, devices: [d], undo: true }, { onError: say })}
          >
            Undo
          </Button>
        </div>
      ))}
    </section>
  );
}

/** Every target that the camera is wanted on, with how it stands there, and the way onto more of them. */
export function Placements({ device: d }: { device: Device }) {
  const { site } = useFrame();
  const takeOff = useTakeOff(site.id);
  const proven = d.latches.some((l) => l.name === "proven" && l.state === "open");
  if (d.placements.length === 0) return null;
  return (
    <section className="space-y-2 border-t px-4 py-3" aria-label="Targets">
      {d.placements.map((p) => (
        <div key={p.target} className="flex items-center gap-2">
          {p.still && <Still src={`/api/stills/${p.still}`} name={`What ${p.name} shows`} className="h-9 w-16" />}
          <span className="min-w-0 grow">
            <Link className="hover:underline" to={`/sites/${site.id}/targets/${p.target}`}>
              {p.name}
            </Link>
            {p.slot && <>, {/^slot/.test(p.slot) ? `slot ${p.slot.replace(/\D+0*/, "")}` : p.slot}</>}
            <span className={`block text-small ${p.diagnosis ? "text-stuck" : p.confirmed && !p.moved ? "text-open" : "text-soft"}`}>
              {p.confirmed && !p.diagnosis && !p.moved && p.report
                ? `It reports: ${p.report}${p.match ? `, ${p.match}` : ""}`
                : cordText(p)}
            </span>
          </span>
          <Button onClick={() => takeOff.mutate({ devices: [d.id], target: p.target, name: p.name, slots: [p.token] })}>Take off</Button>
        </div>
      ))}
      {proven && <PlaceMenu site={site.id} cameras={[d]} brief />}
    </section>
  );
}

/** The device's address: give it another, or take the last change back. */
export function Address({ device: d, onAddress }: { device: Device; onAddress: () => void }) {
  const { site } = useFrame();
  const send = useSetAddress(site.id);
  const forget = useForget(site.id);
  const m = d.moved;
  const canUndo = m && !m.failed && m.after.addr === d.address;
  return (
    <section className="flex flex-wrap items-center gap-2 border-t px-4 py-3" aria-label="Address">
      <div className="min-w-40 grow">
        <span className="mono">{d.address}</span>
        {m && (
          <span className={`block text-small ${m.failed ? "text-stuck" : "text-soft"}`}>
            {m.failed ? (
              `${m.failed} ${m.fix ?? ""}`
            ) : m.before.addr === m.after.addr && m.before.dhcp === m.after.dhcp ? (
              "settings besides the address changed"
            ) : (
              <>
                moved from <span className="mono">{m.before.addr}</span>
                {m.before.dhcp && " (DHCP)"}
              </>
            )}
          </span>
        )}
      </div>
      {canUndo && (
        <Button
          disabled={send.isPending}
          onClick={() => send.mutate({ title: `Undo the address change of ${d.name}`, lines: backToBefore([d]) }, { onError: say })}
        >
          Undo
        </Button>
      )}
      <Button onClick={onAddress}>Give an address</Button>
      <Sure
        ask={`Forget ${d.name}?`}
        more="What was recorded of it goes with it. If it is still on the network, the next sweep finds it anew."
        yes="Forget it with its evidence"
        onYes={() => forget.mutate([d.id])}
      >
        <Button look="quiet">Forget</Button>
      </Sure>
    </section>
  );
}

/** What each method heard, and when: contradictions stand side by side. */
export function Claims({ device: d }: { device: Device }) {
  return (
    <section className="border-t px-4 py-3" aria-label="Heard by">
      <h3 className="mb-1 text-small text-soft">Heard by</h3>
      <ul className="text-small">
        {d.claims.map((c) => (
          <li key={`${c.method} ${c.text}`} className="flex gap-2 py-0.5">
            <span className="w-24 shrink-0">{c.method}</span>
            <span className="min-w-0 grow break-words text-soft">{c.text}</span>
            <span className="shrink-0 text-soft">{ago(c.at)}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

export function Facts({ device: d }: { device: Device }) {
  const rows = [
    ["Behind the recorder", d.via && [d.via.camera, d.via.place].filter(Boolean).join(", ")],
    ["Maker and model", [d.maker, d.model].filter(Boolean).join(" ")],
    ["Firmware", d.firmware],
    ["Serial", d.serial],
    ["MAC", [d.mac, d.mac_block && `(${d.mac_block})`].filter(Boolean).join(" ")],
    ["Its own word", (d.protocols ?? []).map((p) => `${p.name} ${p.enabled ? p.ports.join(", ") : "off"}`).join(", ")],
    ["Certificate", d.certificate && `SHA-256 ${d.certificate.slice(0, 16)} …`],
    ["Ports asked", d.ports.map((p) => `${p.number} ${p.speaks}${p.named ? " (named by the device)" : ""}`).join(", ")],
  ].filter(([, v]) => v);
  return (
    <dl className="grid grid-cols-[130px_1fr] gap-x-3 gap-y-0.5 border-t px-4 py-3 text-small">
      {rows.map(([k, v]) => (
        <div key={k} className="contents">
          <dt className="text-soft">{k}</dt>
          <dd>{v}</dd>
        </div>
      ))}
    </dl>
  );
}
