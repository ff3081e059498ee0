import { ExternalLink, Radar } from "lucide-react";
import { useMemo, useState } from "react";
import { useNavigate } from "react-router";
import type { Device } from "@/api/client";
import { useRuns } from "@/api/queries";
import { Button } from "@/parts/Button";
import { ago } from "@/parts/measures";
import { Tip } from "@/parts/Tip";
import { useFrame } from "./SiteFrame";

/** What is on the wire: the address field, the devices heard, and the shelf of strays. */
export function Find() {
  const { site, devices, sweep, changeSite } = useFrame();
  const runs = useRuns(site.id);
  const running = runs.data?.find((r) => r.kind === "sweep" && r.state === "running");
  const last = runs.data?.find((r) => r.kind === "sweep");
  const inside = devices.filter((d) => !d.stray);
  const strays = devices.filter((d) => d.stray);
  return (
    <div className="flex h-full flex-col">
      <div className="flex min-h-14 shrink-0 flex-wrap items-center gap-3 border-b px-4 py-2">
        <Button look={inside.length === 0 && !running ? "next" : "plain"} className="h-9" disabled={!!running} onClick={sweep}><Radar size={16} /> {running ? "Sweeping …" : last ? "Sweep again" : "Sweep the site"}</Button>
        <span><span className="mono">{site.ranges.join(", ")}</span> <span className="num text-soft">{site.addresses.toLocaleString("en")} addresses</span></span>
        <Button look="quiet" onClick={changeSite}>Change</Button>
        <span className="grow" />
        <span className="num text-soft">
          {many(inside, "camera")} · {many(inside, "recorder")} · {many(inside, "other")}{last && ` · ${running ? "sweeping now" : `swept ${ago(last.created_at)}`}`}
        </span>
      </div>
      {devices.length === 0 ? (
        <div className="grid grow place-items-center p-6 text-center">
          <div>
            <p className="mb-1 text-lg">{running ? "Listening …" : "Nothing heard yet"}</p>
            <p className="text-soft">{running ? "Devices appear here as they answer." : "A sweep calls for cameras on this wire and asks every address of the ranges which ports are open. It changes nothing on any device."}</p>
          </div>
        </div>
      ) : (
        <div className="flex min-h-0 grow max-lg:flex-col">
          <div className="min-h-0 grow overflow-auto">
            <Fields devices={inside} />
            <Heard devices={inside} />
          </div>
          <Strays devices={strays} />
        </div>
      )}
    </div>
  );
}

function many(list: Device[], kind: string) {
  const n = list.filter((d) => d.kind === kind).length;
  return `${n} ${kind}${n === 1 ? "" : "s"}`;
}

const mostFields = 4;

/** One field of 256 tiles for each /24 in which something was heard, else for the first of the ranges. */
function Fields({ devices }: { devices: Device[] }) {
  const { site } = useFrame();
  const nets = useMemo(() => {
    const heard = new Set(devices.filter((d) => d.address.includes(".")).map((d) => d.address.replace(/\.\d+$/, "")));
    for (const r of site.ranges) if (/^\d+\.\d+\.\d+\.\d+/.test(r)) heard.add(r.replace(/\.\d+(\/\d+)?$/, ""));
    return [...heard];
  }, [devices, site.ranges]);
  const byAddress = useMemo(() => new Map(devices.map((d) => [d.address, d])), [devices]);
  return (
    <section aria-label="Addresses" className="flex flex-wrap gap-x-10 gap-y-4 border-b px-4 py-3">
      {nets.slice(0, mostFields).map((net) => (
        <div key={net}>
          <div className="mb-1.5 text-[13px]"><span className="mono">{net}.0/24</span></div>
          {Array.from({ length: 8 }, (_, row) => (
            <div key={row} className="mb-0.5 flex gap-0.5 max-sm:gap-px">
              <span className="mono w-8 pr-1 text-right text-[11px] leading-[14px] text-soft max-sm:hidden">.{row * 32}</span>
              {Array.from({ length: 32 }, (_, i) => `${net}.${row * 32 + i}`).map((a) => <Tile key={a} address={a} device={byAddress.get(a)} />)}
            </div>
          ))}
        </div>
      ))}
      <ul className="flex flex-col justify-end gap-1 text-[13px] text-soft">
        <li className="flex items-center gap-2"><TileMark kind="camera" /> camera</li>
        <li className="flex items-center gap-2"><TileMark kind="recorder" /> recorder</li>
        <li className="flex items-center gap-2"><TileMark kind="other" /> something else</li>
        <li className="flex items-center gap-2"><TileMark /> nothing heard</li>
        {nets.length > mostFields && <li>{nets.length - mostFields} more networks in the list below</li>}
      </ul>
    </section>
  );
}

function TileMark({ kind }: { kind?: string }) {
  return (
    <svg width="14" height="14" viewBox="0 0 14 14" className="block shrink-0 max-sm:size-2.5" aria-hidden>
      <rect width="14" height="14" rx="1.5" className={kind === "camera" ? "fill-ink" : kind === "recorder" ? "fill-open" : "fill-well"} />
      {kind === "camera" && <circle cx="7" cy="7" r="2.6" className="fill-paper" />}
      {kind === "recorder" && <path d="M4 5h6M4 9h6" className="stroke-paper" strokeWidth="1.6" />}
      {kind === "other" && <path d="M4 10 10 4" className="stroke-soft" strokeWidth="1.6" />}
    </svg>
  );
}

function Tile({ address, device }: { address: string; device?: Device }) {
  const go = useNavigate();
  const { site } = useFrame();
  if (!device) return <TileMark />;
  return (
    <Tip text={`${address} ${device.name}`}>
      <button type="button" aria-label={`${address}: ${device.name}`} onClick={() => go(`/sites/${site.id}?device=${device.id}`)}><TileMark kind={device.kind} /></button>
    </Tip>
  );
}

function Heard({ devices }: { devices: Device[] }) {
  const { site } = useFrame();
  const go = useNavigate();
  return (
    <table className="w-full">
      <thead>
        <tr className="h-7 border-b text-left text-[13px] text-soft [&>th]:px-2 [&>th]:font-normal [&>th:first-child]:pl-4">
          <th>Address</th><th>Device</th><th className="max-sm:hidden">What it is</th><th>Open ports</th><th className="max-md:hidden">Heard by</th><th className="max-sm:hidden" />
        </tr>
      </thead>
      <tbody>
        {devices.map((d) => (
          <tr key={d.id} data-heard={d.address} className="h-9 cursor-pointer border-b hover:bg-well/60 [&>td]:px-2 [&>td:first-child]:pl-4" onClick={() => d.kind !== "other" && go(`/sites/${site.id}?device=${d.id}`)}>
            <td className="mono whitespace-nowrap">{d.address}</td>
            <td className="font-medium">{d.kind === "other" ? <span className="font-normal text-soft">{d.is || (d.named || d.claims.some((c) => c.method !== "neighbour table" && c.method !== "port sweep") ? d.name : "not a camera")}</span> : d.name}</td>
            <td className="max-sm:hidden"><span className="inline-flex items-center gap-2"><TileMark kind={d.kind} /> {d.conflict ? <span className="text-stuck">address conflict</span> : d.kind}{d.model && <span className="text-soft">{d.model}</span>}</span></td>
            <td className="mono text-[13px]">{d.ports.map((p) => <span key={p.number} className="mr-3 whitespace-nowrap">{p.number} <span className="text-soft">{p.speaks}</span></span>)}</td>
            <td className="text-[13px] text-soft max-md:hidden">{d.methods.join(", ")}</td>
            <td className="text-right max-sm:hidden">{d.web && <a href={d.web} target="_blank" rel="noreferrer" onClick={(e) => e.stopPropagation()} aria-label={`${d.name}: its own page`} title="Its own page" className="inline-block p-1 text-soft hover:text-ink"><ExternalLink size={14} /></a>}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** Devices heard outside the ranges: shown, and not connected to. */
function Strays({ devices }: { devices: Device[] }) {
  const { changeSite } = useFrame();
  const [why, setWhy] = useState(false);
  return (
    <aside aria-label="Strays" className="w-full shrink-0 overflow-auto border-l bg-sheet px-4 py-3 lg:w-72">
      <h2 className="font-semibold">Strays <span className="num font-normal text-soft">{devices.length}</span></h2>
      {devices.length === 0 ? (
        <p className="mt-1 text-soft">Nothing was heard outside the ranges.</p>
      ) : (
        <>
          <p className="mt-1 mb-2 text-[13px] text-soft">
            Heard on this wire at addresses outside the ranges. Unlatch does not connect to them.{" "}
            {!why && <button type="button" className="underline hover:text-ink" onClick={() => setWhy(true)}>Why?</button>}
          </p>
          {why && <p className="mb-2 text-[13px]">A camera fresh from the box comes up at its factory address. Give it an address inside the ranges, or add its range to the site if it belongs there.</p>}
          <ul className="border-t">
            {devices.map((d) => (
              <li key={d.id} className="border-b py-2" data-stray={d.address}>
                <div className="mono">{d.address}</div>
                <div>{d.name}</div>
                <div className="text-[13px] text-soft">{d.kind}, {d.methods.join(", ")}, {ago(d.heard_at)}</div>
              </li>
            ))}
          </ul>
          <Button className="mt-3" onClick={changeSite}>Change the ranges</Button>
        </>
      )}
    </aside>
  );
}
