import { ArrowLeft, ExternalLink, Pencil, RotateCw, X } from "lucide-react";
import { useState, type ReactNode } from "react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, exchangeText, must, type Device, type Stream } from "@/api/client";
import { backToBefore, say, useEvidence, useForget, useOpenLatches, useReaddress, useRemedy, useRemove, useRename } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { LatchChain } from "@/parts/LatchChain";
import { isStuck, latchNames } from "@/parts/latches";
import { ago, bitrate, fps, stillUrl } from "@/parts/measures";
import { Sheet } from "@/parts/Sheet";
import { Trouble } from "@/parts/Trouble";
import { Still } from "@/parts/Still";
import { UrlSegments } from "@/parts/UrlSegments";
import { Agreed, Findings } from "./Findings";
import { BenchSections, deviceWord, signInWord, streamsWord, targetsWord, type Part } from "./BenchSections";
import { Channels } from "./Channels";
import { Countdown } from "@/parts/Countdown";
import { Ladder } from "./Ladder";
import { SignInGrid } from "./SignInGrid";
import { useFrame } from "./SiteFrame";
import { Choice } from "@/parts/Choice";
import { StreamRole } from "@/parts/StreamRole";
import { Sure } from "@/parts/Sure";
import { keys } from "@/api/keys";

type Props = {
  device: Device;
  recorders: Device[];
  onAgree: () => void;
  onAddress: () => void;
  onClaim: () => void;
  onStreamUser: () => void;
  onClose: () => void;
  onOpen: (list: Device[], target?: string, retry?: boolean) => void;
};

/** The camera in hand: its picture, the one next step, its URLs, its evidence. */
export function Bench({ device: d, recorders, onAgree, onAddress, onClaim, onStreamUser, onClose, onOpen }: Props) {
  const [role, setRole] = useState("main");
  const stream = d.streams.find((s) => s.role === role) ?? d.streams[0];
  const seen = useEvidence(d.id).data?.length;
  const findings = (
    <div className="empty:hidden [&>*:first-child]:mt-3">
      <Findings device={d} />
      {d.factory && (
        <section aria-label="Finding" className="mx-4 mb-3 flex items-center gap-3 border-l-4 border-stuck bg-paper px-3 py-2.5">
          <p className="grow">
            It still opens with the password that it has from the factory (user <span className="mono">{d.factory}</span>). Anybody who
            knows the maker’s papers can sign in.
          </p>
          <Button onClick={onClaim}>Give it its own</Button>
        </section>
      )}
      <Clock device={d} />
    </div>
  );
  const part = (id: string, name: string, [word, bad]: [string, boolean], body: ReactNode): Part => ({
    id,
    name,
    key: name === "Sign-ins" ? "i" : name[0]!.toLowerCase(),
    word,
    bad,
    body,
  });
  const parts = [
    ...(d.kind === "recorder" && !stream
      ? []
      : [
          part(
            "urls",
            "URLs",
            streamsWord(d),
            <>
              {stream && (
                <section className="px-4 py-3">
                  <UrlSegments
                    stream={stream}
                    name={d.name}
                    reveal={() =>
                      must(
                        api.POST("/api/devices/{device}/streams/{role}/reveal", { params: { path: { device: d.id, role: stream.role } } }),
                      ).then((r) => r.url)
                    }
                  />
                </section>
              )}
              {stream && <StreamRole device={d} stream={stream} onChange={setRole} />}
              {stream?.proof?.ok && <Compare stream={stream} />}
              <Pictures device={d} />
              {d.ladder && <Ladder ladder={d.ladder} />}
            </>,
          ),
        ]),
    part(
      "sign-ins",
      "Sign-ins",
      signInWord(d),
      <>
        <SignInGrid device={d} />
        <Agreed device={d} />
        <Remedies device={d} />
      </>,
    ),
    d.kind === "recorder"
      ? part("channels", "Channels", [d.channels ? String(d.channels.length) : "none", false], d.channels && <Channels recorder={d} />)
      : part("targets", "Targets", targetsWord(d), <Placements device={d} />),
    part(
      "device",
      "Device",
      deviceWord(d),
      <>
        {!d.via && <Address device={d} onAddress={onAddress} />}
        <Facts device={d} />
        <Claims device={d} />
      </>,
    ),
    part("evidence", "Evidence", [seen === undefined ? "…" : String(seen), false], <Evidence device={d} />),
  ];
  return (
    <aside
      id="bench"
      tabIndex={-1}
      aria-label={`Bench: ${d.name}`}
      className="flex w-full shrink-0 flex-col overflow-auto border-l bg-sheet outline-none lg:w-[430px] [@media(min-width:64rem)_and_(min-height:44rem)]:overflow-hidden"
    >
      <div className="shrink-0">
        <Head device={d} onClose={onClose} />
        {d.kind === "camera" && <Picture device={d} stream={stream} role={role} setRole={setRole} />}
        <NextStep device={d} recorders={recorders} onAgree={onAgree} onClaim={onClaim} onStreamUser={onStreamUser} onOpen={onOpen} />
      </div>
      <BenchSections first={findings} parts={parts} />
    </aside>
  );
}

function Head({ device: d, onClose }: { device: Device; onClose: () => void }) {
  const { site } = useFrame();
  const rename = useRename(site.id);
  const [editing, setEditing] = useState(false);
  return (
    <div className="flex items-center gap-2 px-4 pt-3 pb-2">
      <Button look="quiet" className="-ml-2 px-2 lg:hidden" aria-label="Back to the line-up" onClick={onClose}>
        <ArrowLeft size={18} />
      </Button>
      <div className="min-w-0 grow">
        {editing ? (
          <input
            autoFocus
            aria-label="Name"
            defaultValue={d.named ? d.name : ""}
            placeholder="What does it see?"
            className="h-7 w-full rounded-sm border bg-paper px-1.5 text-lg"
            onBlur={() => setEditing(false)}
            onKeyDown={(e) => {
              if (e.key === "Enter") rename.mutate({ device: d.id, name: e.currentTarget.value.trim() });
              if (e.key === "Enter" || e.key === "Escape") setEditing(false);
            }}
          />
        ) : (
          <h2 className="flex items-center gap-1 text-lg leading-7 font-semibold">
            <span className="truncate">{d.name}</span>
            <button
              type="button"
              aria-label="Change the name"
              title="Change the name (R)"
              className="rounded-sm p-1 text-soft hover:bg-well hover:text-ink"
              onClick={() => setEditing(true)}
            >
              <Pencil size={14} />
            </button>
          </h2>
        )}
        <div className="flex flex-wrap items-center gap-x-2 text-small whitespace-nowrap text-soft">
          {d.via ? (
            <span>
              channel {d.via.channel} of{" "}
              <Link to={`/sites/${site.id}?device=${d.via.recorder}`} className="underline hover:text-ink">
                {d.via.name}
              </Link>
            </span>
          ) : (
            <>
              <span className="mono">{d.address}</span>
              <Copy text={d.address} label="Copy" />
            </>
          )}
          {d.web && (
            <a href={d.web} target="_blank" rel="noreferrer" className="inline-flex items-center gap-1 underline hover:text-ink">
              {d.via ? "its page, through it" : "its own page"} <ExternalLink size={12} />
            </a>
          )}
        </div>
        {d.left_at && <div className="text-small text-stuck">It said goodbye {ago(d.left_at)}: switched off, restarted or moved.</div>}
      </div>
      <Button look="quiet" className="self-start px-2 max-lg:hidden" aria-label="Close the bench" title="Close (Esc)" onClick={onClose}>
        <X size={16} />
      </Button>
    </div>
  );
}

function Picture({ device: d, stream, role, setRole }: { device: Device; stream?: Stream; role: string; setRole: (t: string) => void }) {
  const proof = stream?.proof;
  const v = proof?.video;
  const other = !proof?.still && (d.snapshot?.still ?? d.mjpeg?.still); // there may be a picture before there is a stream
  const still = proof?.still ?? (other || undefined);
  return (
    <section aria-label="Picture" className="px-4">
      <div className="relative">
        <Still
          src={still ? stillUrl(still) : undefined}
          name={other ? `${d.name}, snapshot` : `${d.name}, ${role} stream`}
          className={`w-full ${still ? "aspect-video" : "h-20"}`}
        />
        {d.streams.length > 1 && (
          <Choice
            label="Stream shown"
            look="picture"
            value={role}
            onChange={setRole}
            options={d.streams.map((s) => [s.role, s.role] as const)}
            className="absolute top-2 right-2 overflow-hidden rounded-sm bg-black/65 text-small text-white"
          />
        )}
      </div>
      <p className="flex h-8 items-center justify-between gap-3 text-small whitespace-nowrap">
        {v ? (
          <span className="mono">
            {v.codec} · {v.width}×{v.height} · {fps(v.fps)} · {bitrate(v.bitrate_kbps)}
          </span>
        ) : (
          <span className="text-soft">{other ? "Its snapshot; no picture of a stream yet" : "No picture yet"}</span>
        )}
        {proof?.ok && <span className="text-soft">{ago(proof.at)}</span>}
      </p>
    </section>
  );
}

/** The one thing to do next, with its reason and its button. */
function NextStep({
  device: d,
  recorders,
  onAgree,
  onClaim,
  onStreamUser,
  onOpen,
}: {
  device: Device;
  recorders: Device[];
  onAgree: () => void;
  onClaim: () => void;
  onStreamUser: () => void;
  onOpen: Props["onOpen"];
}) {
  const { addSignIn, changeSite, devices, site } = useFrame();
  const again = useOpenLatches(site.id);
  const mend = useRemedy(site.id);
  const take = useMutation({
    mutationFn: () =>
      must(
        api.POST("/api/devices/{device}/certificate", { params: { path: { device: d.id } }, body: { sha256: d.next.certificate ?? "" } }),
      ),
    onSuccess: () => onOpen([d]),
    onError: say,
  });
  const stuck = isStuck(d);
  const done = d.next.action === "none";
  const act = () => {
    if (d.next.action === "add_sign_in" || d.next.action === "wait") return addSignIn(d.next.reason, () => onOpen([d]), d);
    if (d.next.action === "agree" || d.next.action === "agree_weaker") return onAgree();
    if (d.next.action === "stream_user") return onStreamUser();
    if (d.next.action === "take_certificate") return take.mutate();
    if (d.next.action === "streams_on") return mend.mutate({ action: "streams", devices: [d] }, { onError: say });
    if (d.next.action === "change_ranges") return changeSite();
    if (d.next.action === "claim") return onClaim();
    if (d.next.action === "open_recorder") return onOpen(devices.filter((x) => x.id === d.via?.recorder));
    onOpen([d]);
  };
  return (
    <section
      aria-label="Next step"
      className={`mx-4 mb-3 border-l-4 bg-paper px-3 py-2.5 ${stuck ? "border-stuck" : done ? "border-open" : "border-brass"}`}
    >
      <div className="mb-2 flex items-center justify-between gap-3">
        <span className={`font-semibold ${stuck ? "text-stuck" : done ? "text-open" : "text-brass-text"}`}>
          {stuck ? `${d.next.until ? "Waiting" : "Stuck"} at “${latchNames[d.at]}”` : done ? d.next.label : `Next: ${latchNames[d.at]}`}
        </span>
        {!(d.kind === "recorder" && done) && <LatchChain latches={d.kind === "recorder" ? d.latches.slice(0, 3) : d.latches} />}
      </div>
      <p>{d.next.reason}</p>
      {d.next.fix && <p className="mt-1 text-soft">{d.next.fix}</p>}
      {d.next.certificate && <p className="mono mt-1 text-small break-all">SHA-256 {d.next.certificate}</p>}
      {d.next.until && (
        <p className="mt-2 text-lg leading-6">
          <Countdown until={d.next.until} /> <span className="text-small text-soft">until it is tried again, by itself</span>
        </p>
      )}
      <div className="mt-2.5 flex flex-wrap gap-2">
        {d.next.action === "place" &&
          recorders.map((r) => (
            <Button key={r.id} look="next" onClick={() => onOpen([d], r.id)}>
              Place on {r.name}
            </Button>
          ))}
        {d.next.action === "place" && recorders.length === 0 && (
          <span className="text-soft">No recorder is signed in to yet: choose it in the list and open its latches.</span>
        )}
        {!done && d.next.action !== "place" && (
          <Button look={d.next.action === "wait" ? "plain" : "next"} disabled={mend.isPending} onClick={act}>
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
            <Button
              title="Sends again what it has refused, within the bound that keeps it from locking"
              onClick={() => onOpen([d], undefined, true)}
            >
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
function Clock({ device: d }: { device: Device }) {
  const { site } = useFrame();
  const mend = useRemedy(site.id);
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

/** What the device shows over HTTP, fetched and looked at: streams of their own beside the RTSP ones. */
function Pictures({ device: d }: { device: Device }) {
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
                <span className="-ml-1">
                  <Copy text={p.url} label="Copy without sign-in" />
                </span>
              </div>
            </div>
          ),
      )}
    </section>
  );
}

const remedyNames: Record<string, string> = { streams: "Stream service switched on", clock: "Clock set", stream_user: "Stream user made" };

/** What Unlatch has changed on the device, each to be taken back. */
function Remedies({ device: d }: { device: Device }) {
  const { site } = useFrame();
  const mend = useRemedy(site.id);
  if (!d.remedies || d.remedies.length === 0) return null;
  return (
    <section className="border-t px-4 py-3 text-small" aria-label="Changed on the device">
      {d.remedies.map((r) => (
        <div key={r.action} className="flex items-center gap-2 py-0.5">
          <span className="grow">
            {remedyNames[r.action]}{" "}
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

/** What the device claims beside what was measured. A difference is marked. */
function Compare({ stream }: { stream: Stream }) {
  const v = stream.proof?.video;
  if (!v) return null;
  const c = stream.claimed;
  const told = c.codec !== ""; // a stream that was found by trying claims nothing
  const near = (a: number, b: number, by: number) => !a || Math.abs(a - b) <= by * a;
  const rows: [string, string, string, boolean][] = [
    ["Codec", told ? c.codec : "–", v.codec, !told || c.codec === v.codec],
    ["Size", told ? `${c.width}×${c.height}` : "–", `${v.width}×${v.height}`, !told || (c.width === v.width && c.height === v.height)],
    ["Frame rate", told ? fps(c.fps) : "–", fps(v.fps), near(c.fps, v.fps, 0.1)],
    ["Bitrate", told ? bitrate(c.bitrate_kbps) : "–", bitrate(v.bitrate_kbps), near(c.bitrate_kbps, v.bitrate_kbps, 0.3)],
    [
      "Key-frame interval",
      c.gop_frames ? `${c.gop_frames} frames` : "–",
      v.gop_frames ? `${v.gop_frames} frames` : "–",
      near(c.gop_frames, v.gop_frames ?? 0, 0.1),
    ],
  ];
  return (
    <section className="border-t px-4 py-3" aria-label="Claimed and measured">
      <table className="w-full text-small">
        <thead>
          <tr className="text-left text-soft">
            <th className="pb-1 font-normal">{stream.role} stream</th>
            <th className="pb-1 text-right font-normal">the device claims</th>
            <th className="pb-1 text-right font-normal">measured</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(([name, claimed, measured, same]) => (
            <tr key={name}>
              <td className="py-0.5">{name}</td>
              <td className="mono py-0.5 text-right text-soft">{claimed}</td>
              <td className={`mono py-0.5 text-right ${same ? "" : "font-semibold text-stuck"}`}>
                {same ? "" : "≠ "}
                {measured}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1.5 text-small text-soft">
        Over{" "}
        {({ tcp: "TCP", udp: "UDP datagrams", multicast: "multicast", "http tunnel": "HTTP (RTSP within it)" } as Record<string, string>)[
          stream.proof?.transport ?? ""
        ] ?? stream.proof?.transport}
        {stream.proof?.tls &&
          ` in TLS${stream.proof.tls.expired ? ` (its certificate expired on ${stream.proof.tls.until.slice(0, 10)})` : ""}`}
        , signed in by {stream.proof?.auth}, first key frame after {Math.round(stream.proof?.first_keyframe_ms ?? 0)} ms, {v.lost} of{" "}
        {v.lost + v.packets} packets lost{stream.proof?.audio && `, audio ${stream.proof.audio.codec}`}
      </p>
    </section>
  );
}

function Placements({ device: d }: { device: Device }) {
  const { site } = useFrame();
  const remove = useRemove(site.id);
  if (d.placements.length === 0) return null;
  return (
    <section className="border-t px-4 py-3" aria-label="Targets">
      {d.placements.map((p) => (
        <div key={p.target} className="flex items-center gap-2">
          <span className="grow">
            {p.name}
            {p.slot && (
              <>
                , slot <span className="mono">{p.slot.replace(/\D+0*/, "")}</span>
              </>
            )}
            <span className={`block text-small ${p.confirmed ? "text-open" : p.diagnosis ? "text-stuck" : "text-soft"}`}>
              {p.confirmed ? `It reports: ${p.report}` : (p.diagnosis?.summary ?? "not confirmed yet")}
            </span>
          </span>
          <Button onClick={() => remove.mutate({ devices: [d.id], target: p.target })}>Take off</Button>
        </div>
      ))}
    </section>
  );
}

/** The device's address: give it another, or take the last change back. */
function Address({ device: d, onAddress }: { device: Device; onAddress: () => void }) {
  const { site } = useFrame();
  const send = useReaddress(site.id);
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
function Claims({ device: d }: { device: Device }) {
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

function Facts({ device: d }: { device: Device }) {
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

/** What was seen of the device, newest first; each conversation can be read whole. */
function Evidence({ device: d }: { device: Device }) {
  const evidence = useEvidence(d.id);
  const [reading, setReading] = useState<{ id: string; title: string } | null>(null);
  const [all, setAll] = useState(false);
  const list = evidence.data ?? [];
  return (
    <section className="border-t px-4 py-3" aria-label="Evidence">
      <h3 className="mb-1 text-small text-soft">Evidence, newest first</h3>
      <ol>
        {list.slice(0, all ? undefined : 8).map((r) => (
          <li key={r.id} className="flex gap-2 py-0.5 text-small">
            <span className="mono w-16 shrink-0 text-soft" title={new Date(r.at).toLocaleString()}>
              {new Date(r.at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", second: "2-digit", hour12: false })}
            </span>
            <span className={`min-w-0 grow ${r.failed ? "text-stuck" : ""}`}>{r.summary}</span>
            {r.exchange && (
              <button
                type="button"
                className="shrink-0 self-start text-soft underline hover:text-ink"
                onClick={() => setReading({ id: r.id, title: r.summary })}
              >
                exchange
              </button>
            )}
          </li>
        ))}
      </ol>
      {list.length > 8 && (
        <button type="button" className="mt-1 text-small text-soft underline hover:text-ink" onClick={() => setAll(!all)}>
          {all ? "Show less" : `Show all ${list.length}`}
        </button>
      )}
      <Sheet title={reading?.title ?? ""} open={!!reading} onOpenChange={(o) => !o && setReading(null)} wide>
        {reading && <Exchange id={reading.id} />}
      </Sheet>
    </section>
  );
}

function Exchange({ id }: { id: string }) {
  const text = useQuery({ queryKey: keys.exchange(id), queryFn: () => exchangeText(id), retry: false });
  if (text.error) return <Trouble error={text.error} />;
  return (
    <>
      <div className="mb-2 flex items-center justify-between gap-3 text-small text-soft">
        <span>“&gt;” was sent, “&lt;” came back. Passwords are redacted.</span>
        <Copy text={text.data ?? ""} label="Copy all" />
      </div>
      <pre className="mono overflow-x-auto border bg-paper p-3 text-tiny leading-[18px]">{text.data ?? "…"}</pre>
    </>
  );
}
