import { useState } from "react";
import { Link } from "react-router";
import { useCast } from "@/api/actions";
import type { CastView, HeardView } from "@/api/client";
import { useMulticast, useRuns } from "@/api/queries";
import { GroupSheet } from "./GroupSheet";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { bitrate } from "@/parts/measures";
import { Trouble } from "@/parts/Trouble";
import { useFrame } from "@/parts/useFrame";

const keyOf = (c: CastView) => `${c.device} ${c.role}`;

/** What the groups of the cameras' streams really carry: proven by listening, not believed. */
export function Multicast() {
  const { site, devices } = useFrame();
  const casts = useMulticast(site.id);
  const runs = useRuns(site.id);
  const cast = useCast(site.id);
  const [chosen, setChosen] = useState<Set<string>>(new Set());
  const [planning, setPlanning] = useState<CastView[] | null>(null);

  if (casts.error) return <div className="p-4">{<Trouble error={casts.error} />}</div>;
  if (!casts.data) return <p className="p-6 text-soft">Loading …</p>;
  const able = new Set(
    devices.filter((d) => !d.via && d.grid?.some((r) => r.service === "device service" && r.state === "opens")).map((d) => d.id),
  );
  // What needs a person comes first, what has no group last.
  const rank = (c: CastView) => (c.findings.length > 0 ? 0 : c.group ? 1 : c.known ? 3 : 2);
  const list = casts.data.filter((c) => able.has(c.device)).sort((a, b) => rank(a) - rank(b));
  const picked = list.filter((c) => chosen.has(keyOf(c)));
  const forButtons = picked.length > 0 ? picked : list;
  const clashing = forButtons.filter((c) => c.findings.some((f) => ["group_clash", "group_outside", "group_shared"].includes(f.cause)));
  const unknown = forButtons.filter((c) => !c.known);
  const busy = runs.data?.some((r) => r.kind === "multicast" && r.state === "running");
  const toggle = (c: CastView) => setChosen((s) => new Set(s.has(keyOf(c)) ? [...s].filter((k) => k !== keyOf(c)) : [...s, keyOf(c)]));
  const send = (action: "measure" | "start" | "stop" | "undo", streams: CastView[]) =>
    cast.mutate({ streams: streams.map(({ device, role }) => ({ device, role })), action });
  const many = (n: number, what = "stream") => `${n} ${what}${n === 1 ? "" : "s"}`;
  const bad = list.filter((c) => c.findings.length > 0);

  if (list.length === 0)
    return (
      <div className="grid h-full place-items-center p-6 text-center">
        <div>
          <p className="mb-1 text-lg">No camera can be asked for its groups yet</p>
          <p className="mb-5 text-soft">A camera appears here once its device service opens and its streams are known.</p>
          <Link to={`/sites/${site.id}`} className="underline">
            To the line-up
          </Link>
        </div>
      </div>
    );
  return (
    <div className="flex h-full flex-col">
      <div className="flex min-h-12 shrink-0 flex-wrap items-center gap-2 border-b px-4 py-2">
        <h2 className="text-lg font-semibold">Multicast</h2>
        <span className="num text-soft">{picked.length > 0 ? `${many(picked.length)} selected` : many(list.length)}</span>
        <span className="mx-1 h-5 border-l" />
        {clashing.length > 0 && (
          <Button look="next" disabled={busy} onClick={() => setPlanning(clashing)}>
            Give {many(clashing.length)} {clashing.length === 1 ? "a group of its" : "groups of their"} own
          </Button>
        )}
        <Button
          look={clashing.length === 0 && unknown.length > 0 ? "next" : "plain"}
          disabled={busy || cast.isPending}
          onClick={() => send("measure", forButtons)}
        >
          Measure {many(forButtons.length)}
        </Button>
        {picked.length > 0 && (
          <>
            <Button disabled={busy} onClick={() => setPlanning(picked)}>
              Plan groups
            </Button>
            <Button disabled={busy} onClick={() => send("start", picked)}>
              Start sending
            </Button>
            <Button disabled={busy} onClick={() => send("stop", picked)}>
              Stop sending
            </Button>
            {picked.some((c) => c.before) && (
              <Button
                disabled={busy}
                onClick={() =>
                  send(
                    "undo",
                    picked.filter((c) => c.before),
                  )
                }
              >
                Put back
              </Button>
            )}
          </>
        )}
        <span className="grow" />
        <span className={bad.length > 0 ? "text-stuck" : "text-soft"}>
          {bad.length > 0 ? `${many(bad.length)} with findings` : unknown.length === 0 && "No finding"}
        </span>
      </div>
      <div className="min-h-0 grow overflow-auto">
        <table className="w-full text-left max-md:hidden">
          <thead className="sticky top-0 z-10 bg-paper text-small text-soft">
            <tr className="border-b">
              <th className="w-12 min-w-12 py-1.5 pl-4">
                <Check
                  checked={picked.length === list.length ? true : picked.length > 0 ? "indeterminate" : false}
                  onChange={() => setChosen(picked.length === list.length ? new Set() : new Set(list.map(keyOf)))}
                  label="Select all streams"
                />
              </th>
              <th className="py-1.5 pr-3 font-normal">Camera</th>
              <th className="py-1.5 pr-3 font-normal">Stream</th>
              <th className="py-1.5 pr-3 font-normal">The device says</th>
              <th className="py-1.5 pr-3 font-normal" title="What came on its group with nobody asking for it">
                With nobody asking
              </th>
              <th className="py-1.5 pr-3 font-normal" title="Joined for this camera alone (source-specific)">
                For it alone
              </th>
              <th className="py-1.5 pr-4 font-normal" title="What came on the group that RTSP names, while it was asked for">
                Asked by RTSP
              </th>
            </tr>
          </thead>
          {list.map((c) => (
            <CastRows key={keyOf(c)} site={site.id} cast={c} chosen={chosen.has(keyOf(c))} toggle={() => toggle(c)} />
          ))}
        </table>
        <ul className="md:hidden">
          {list.map((c) => (
            <CastOnPhone key={keyOf(c)} cast={c} chosen={chosen.has(keyOf(c))} toggle={() => toggle(c)} />
          ))}
        </ul>
      </div>
      {planning && <GroupSheet site={site.id} streams={planning} onClose={() => setPlanning(null)} />}
    </div>
  );
}

type RowProps = { cast: CastView; chosen: boolean; toggle: () => void };

/** One stream: what the device says of its group, and what came. */
function CastRows({ site, cast: c, chosen, toggle }: RowProps & { site: string }) {
  return (
    <tbody data-cast={c.name} data-role={c.role} className="border-b hover:bg-well/50">
      <tr className="h-9 align-middle">
        <td className="pl-4">
          <Check checked={chosen} onChange={toggle} label={`Select ${c.name}, ${c.role}`} />
        </td>
        <td className="pr-3 whitespace-nowrap">
          <Link to={`/sites/${site}?device=${c.device}`} className="font-semibold hover:underline">
            {c.name}
          </Link>{" "}
          <span className="mono text-small text-soft">{c.address}</span>
        </td>
        <td className="pr-3">{c.role}</td>
        <td className="mono pr-3">
          <Says cast={c} />
        </td>
        <td className="mono pr-3">
          <Came heard={c.bare} expected={c.always} />
        </td>
        <td className="mono pr-3">
          <Came heard={c.specific} />
        </td>
        <td className="mono pr-4">
          {c.rtsp_problem ? (
            <span className="text-soft" title={c.rtsp_problem}>
              not by RTSP
            </span>
          ) : (
            <Came heard={c.rtsp} expected />
          )}
        </td>
      </tr>
      {c.bare?.of && (
        <tr>
          <td />
          <td colSpan={6} className="mono pr-4 pb-1.5 text-small text-soft">
            from {c.bare.of.from} on {c.bare.interface || "the card of the system’s choice"}, TTL {c.bare.of.ttl} as it arrives,{" "}
            {c.bare.of.lost} lost{c.rtsp && c.rtsp.group !== c.bare.group && `; RTSP names ${c.rtsp.group}`}
          </td>
        </tr>
      )}
      <Findings cast={c} />
    </tbody>
  );
}

function CastOnPhone({ cast: c, chosen, toggle }: RowProps) {
  return (
    <li className="border-b px-4 py-2" data-cast-phone={c.name}>
      <div className="flex items-center gap-3">
        <Check checked={chosen} onChange={toggle} label={`Select ${c.name}, ${c.role}`} />
        <span className="font-semibold">{c.name}</span> <span className="text-soft">{c.role}</span>
      </div>
      <div className="mono mt-1 text-small">
        <Says cast={c} />
      </div>
      {c.findings.map((f) => (
        <p key={f.cause + f.summary} className="mt-1 border-l-4 border-stuck pl-2 text-small">
          {f.summary} <span className="text-soft">{f.fix}</span>
        </p>
      ))}
    </li>
  );
}

function Says({ cast: c }: { cast: CastView }) {
  if (!c.known) return <span className="text-soft">not asked yet</span>;
  if (!c.group) return <span className="text-soft">no group</span>;
  return (
    <span className="whitespace-nowrap">
      {c.group} <span className="text-soft">TTL {c.ttl}</span> {c.always && <span>always</span>}
      {c.before && <span className="text-soft"> (was {c.before})</span>}
    </span>
  );
}

/** What came of the camera itself on a group. */
function Came({ heard: h, expected }: { heard?: HeardView; expected?: boolean }) {
  if (!h) return <span className="text-soft">–</span>;
  if (!h.of) return <span className={expected ? "font-semibold text-stuck" : "text-soft"}>nothing</span>;
  return (
    <span
      className="whitespace-nowrap"
      title={
        `${h.of.packets} packets from ${h.of.from} in ${h.for_ms} ms on ${h.interface || "the card of the system's choice"}, ` +
        `TTL ${h.of.ttl} as they arrived, ${h.of.lost} lost`
      }
    >
      <span className="text-open">✓</span> {h.of.kind.replace(" in RTP", "")} {bitrate(h.of.kbps)}{" "}
      <span className="text-soft">{Math.round((h.of.packets * 1000) / h.for_ms)}/s</span>
    </span>
  );
}

function Findings({ cast: c }: { cast: CastView }) {
  return c.findings.map((f) => (
    <tr key={f.cause + f.summary} data-finding={f.cause}>
      <td />
      <td colSpan={6} className="pr-4 pb-2">
        <p className="border-l-4 border-stuck pl-3">
          <span className="font-medium">{f.summary}</span> <span className="text-soft">{f.fix}</span>
          {f.seen && <span className="text-small text-soft"> Seen: {f.seen}.</span>}
        </p>
      </td>
    </tr>
  ));
}
