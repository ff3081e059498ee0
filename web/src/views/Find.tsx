import { ExternalLink, Radar, Search } from "lucide-react";
import { Switch } from "radix-ui";
import { useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import type { Device } from "@/api/client";
import { say, useConsent, useGuidance, useInterfaces, useRuns, useWatch } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { Field } from "@/parts/Field";
import { useKeys } from "@/parts/keys";
import { ago } from "@/parts/measures";
import { ListShelf } from "@/parts/ListShelf";
import { netsOf, within } from "@/parts/nets";
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
        <Watching />
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
          <Strays devices={strays} all={devices} />
        </div>
      )}
    </div>
  );
}

/** Whether what devices announce by themselves is listened to between sweeps. */
function Watching() {
  const { site } = useFrame();
  const watch = useWatch(site.id);
  return (
    <label className="flex items-center gap-2" title="A device that is plugged in announces itself and shows up without a sweep. Listening asks nothing of any device.">
      <Switch.Root checked={site.watch} disabled={watch.isPending} onCheckedChange={(on) => watch.mutate(on, { onError: say })} className="relative h-4 w-7 rounded-full bg-hair data-[state=checked]:bg-open">
        <Switch.Thumb className="block size-3 translate-x-0.5 rounded-full bg-sheet transition-transform data-[state=checked]:translate-x-3.5" />
      </Switch.Root>
      {site.watch ? "Listening for newcomers" : "Not listening"}
    </label>
  );
}

function many(list: Device[], kind: string) {
  const n = list.filter((d) => d.kind === kind).length;
  return `${n} ${kind}${n === 1 ? "" : "s"}`;
}

/** How many /24 fields stand side by side; a site with more gets an overview of all, and one field at a time. */
const mostFields = 4;

type Mark = "camera" | "recorder" | "other" | "conflict" | "self" | "gateway" | "planned" | "pool" | "dhcp" | "free";

const markNames: Record<Mark, string> = {
  camera: "camera", recorder: "recorder", other: "something else", conflict: "address conflict", self: "this machine", gateway: "gateway", planned: "about to be given", pool: "camera pool", dhcp: "DHCP pool", free: "nothing heard",
};

/** What stands at each address: a device that was heard, else what the site's layout says of the address. */
function useMarks(devices: Device[]) {
  const { site } = useFrame();
  const interfaces = useInterfaces();
  const runs = useRuns(site.id);
  return useMemo(() => {
    const byAddress = new Map(devices.filter((d) => !d.via).map((d) => [d.address, d]));
    const own = new Set((interfaces.data ?? []).flatMap((i) => i.addresses.map((a) => a.split("/")[0]!)));
    const gateways = new Set([site.network.gateway, ...(interfaces.data ?? []).map((i) => i.gateway ?? "")]);
    const planned = new Set((runs.data ?? []).flatMap((r) => r.planned ?? []));
    const pool = within(site.network.pool);
    const dhcp = within(site.network.dhcp);
    const mark = (address: string): Mark => {
      const d = byAddress.get(address);
      if (d) return d.conflict ? "conflict" : d.kind;
      if (planned.has(address)) return "planned";
      if (own.has(address)) return "self";
      if (gateways.has(address)) return "gateway";
      if (pool(address)) return "pool";
      return dhcp(address) ? "dhcp" : "free";
    };
    return { byAddress, mark };
  }, [devices, interfaces.data, runs.data, site.network]);
}

function Fields({ devices }: { devices: Device[] }) {
  const { site } = useFrame();
  const { byAddress, mark } = useMarks(devices);
  const nets = useMemo(() => netsOf(site.ranges, devices.map((d) => d.address)), [devices, site.ranges]);
  const [chosen, setChosen] = useState<string | null>(null);
  const many = nets.length > mostFields;
  const busiest = useMemo(() => [...nets].sort((a, b) => heardIn(devices, b) - heardIn(devices, a))[0], [nets, devices]);
  const shown = many ? [chosen ?? busiest!] : nets;
  const present = new Set<Mark>(["camera", "recorder", "other", "free"]);
  for (const net of shown) for (let i = 0; i < 256; i++) present.add(mark(`${net}.${i}`));
  return (
    <section aria-label="Addresses" className="flex flex-wrap gap-x-10 gap-y-4 border-b px-4 py-3">
      {many && <Overview nets={nets} devices={devices} chosen={shown[0]!} choose={setChosen} />}
      {shown.map((net) => (
        <div key={net}>
          <div className="mb-1.5 text-[13px]"><span className="mono">{net}.0/24</span></div>
          {Array.from({ length: 8 }, (_, row) => (
            <div key={row} className="mb-0.5 flex gap-0.5 max-sm:gap-px">
              <span className="mono w-8 pr-1 text-right text-[11px] leading-[14px] text-soft max-sm:hidden">.{row * 32}</span>
              {Array.from({ length: 32 }, (_, i) => `${net}.${row * 32 + i}`).map((a) => <Tile key={a} address={a} mark={mark(a)} device={byAddress.get(a)} />)}
            </div>
          ))}
        </div>
      ))}
      <ul className="flex flex-col justify-end gap-1 text-[13px] text-soft">
        {(Object.keys(markNames) as Mark[]).filter((m) => present.has(m)).map((m) => <li key={m} className="flex items-center gap-2"><TileMark mark={m} /> {markNames[m]}</li>)}
      </ul>
    </section>
  );
}

const heardIn = (devices: Device[], net: string) => devices.filter((d) => d.address.startsWith(`${net}.`)).length;

/** Every /24 of a large site as one tile with the number of devices heard in it; one is looked at closely. */
function Overview({ nets, devices, chosen, choose }: { nets: string[]; devices: Device[]; chosen: string; choose: (net: string) => void }) {
  const counts = useMemo(() => {
    const out = new Map<string, number>();
    for (const d of devices) {
      const net = d.address.replace(/\.\d+$/, "");
      out.set(net, (out.get(net) ?? 0) + 1);
    }
    return out;
  }, [devices]);
  return (
    <div>
      <div className="mb-1.5 text-[13px]">{nets.length} networks, devices heard in each</div>
      <div role="group" aria-label="Networks" className="grid grid-cols-[repeat(32,16px)] gap-0.5 max-sm:grid-cols-[repeat(16,18px)]">
        {nets.map((net) => {
          const n = counts.get(net) ?? 0;
          return (
            <button key={net} type="button" aria-pressed={net === chosen} aria-label={`${net}.0/24: ${n} devices`} title={`${net}.0/24`} onClick={() => choose(net)}
              className={`num grid h-4 place-items-center rounded-[1.5px] text-[10px] ${n ? "bg-ink text-paper" : "bg-well text-soft"} ${net === chosen ? "outline-2 outline-offset-1 outline-ink" : ""}`}>
              {n || ""}
            </button>
          );
        })}
      </div>
    </div>
  );
}

/** Each kind of address has a shape of its own. */
function TileMark({ mark }: { mark: Mark }) {
  const ground = { camera: "fill-ink", recorder: "fill-open", conflict: "fill-stuck", self: "fill-soft", gateway: "fill-soft" }[mark as string] ?? "fill-well";
  return (
    <svg width="14" height="14" viewBox="0 0 14 14" className="block shrink-0 max-sm:size-2.5" aria-hidden>
      <rect width="14" height="14" rx="1.5" className={ground} />
      {mark === "camera" && <circle cx="7" cy="7" r="2.6" className="fill-paper" />}
      {mark === "recorder" && <path d="M4 5h6M4 9h6" className="stroke-paper" strokeWidth="1.6" />}
      {mark === "other" && <path d="M4 10 10 4" className="stroke-soft" strokeWidth="1.6" />}
      {mark === "conflict" && <path d="M7 3v5M7 10v1.4" className="stroke-paper" strokeWidth="1.8" />}
      {mark === "self" && <path d="M3.5 4h7v5h-7zM5 11h4" fill="none" className="stroke-paper" strokeWidth="1.2" />}
      {mark === "gateway" && <path d="M3 7h8M8 4l3 3-3 3" fill="none" className="stroke-paper" strokeWidth="1.4" />}
      {mark === "planned" && <path d="M7 3v8M3 7h8" className="stroke-ink" strokeWidth="1.8" />}
      {mark === "pool" && <path d="M2 12.5h10" className="stroke-open" strokeWidth="1.6" />}
      {mark === "dhcp" && <path d="M2 12.5h10" className="stroke-soft" strokeWidth="1.6" strokeDasharray="2 1.6" />}
    </svg>
  );
}

function Tile({ address, mark, device }: { address: string; mark: Mark; device?: Device }) {
  const go = useNavigate();
  const { site } = useFrame();
  if (!device) return mark === "free" || mark === "pool" || mark === "dhcp" ? <TileMark mark={mark} /> : <span title={`${address}: ${markNames[mark]}`}><TileMark mark={mark} /></span>;
  return (
    <Tip text={`${address} ${device.name}`}>
      <button type="button" aria-label={`${address}: ${device.name}`} onClick={() => device.kind !== "other" && go(`/sites/${site.id}?device=${device.id}`)}><TileMark mark={mark} /></button>
    </Tip>
  );
}

type Column = "address" | "name" | "kind";

function Heard({ devices }: { devices: Device[] }) {
  const { site } = useFrame();
  const go = useNavigate();
  const [text, setText] = useState("");
  const [by, setBy] = useState<Column>("address");
  const search = useRef<HTMLInputElement>(null);
  useKeys({ "/": () => search.current?.focus() });
  const shown = useMemo(() => {
    const words = text.toLowerCase().split(/\s+/).filter(Boolean);
    const list = devices.filter((d) => words.every((w) => `${d.address} ${d.name} ${d.kind} ${d.maker} ${d.model} ${d.serial} ${d.mac} ${d.is} ${d.methods.join(" ")} ${d.via?.name ?? ""} ${d.via?.camera ?? ""}`.toLowerCase().includes(w)));
    // The server lists in order of address already.
    return by === "address" ? list : list.sort((a, b) => a[by].localeCompare(b[by]));
  }, [devices, text, by]);
  const sortable = (column: Column, title: string) => (
    <th aria-sort={by === column ? "ascending" : undefined}>
      <button type="button" className={by === column ? "text-ink underline decoration-1 underline-offset-4" : "hover:text-ink"} onClick={() => setBy(column)}>{title}</button>
    </th>
  );
  return (
    <>
    <label className="relative block border-b px-4 py-2">
      <Search size={14} className="absolute top-[18px] left-6 text-soft" aria-hidden />
      <input ref={search} value={text} onChange={(e) => setText(e.target.value)} onKeyDown={(e) => e.key === "Escape" && (setText(""), e.currentTarget.blur())} placeholder="Address, name, maker, MAC, what heard it" aria-label="Search the devices" className="h-8 w-full max-w-sm rounded-md border bg-sheet pr-2 pl-7" />
      {text && <span className="num ml-3 text-soft">{shown.length} of {devices.length}</span>}
    </label>
    <table className="w-full">
      <thead>
        <tr className="h-7 border-b text-left text-[13px] text-soft [&>th]:px-2 [&>th]:font-normal [&>th:first-child]:pl-4">
          {sortable("address", "Address")}{sortable("name", "Device")}{sortable("kind", "What it is")}<th>Open ports</th><th className="max-md:hidden">Heard by</th><th className="max-sm:hidden" />
        </tr>
      </thead>
      <tbody>
        {shown.map((d) => (
          <tr key={d.id} data-heard={d.address} className="h-9 cursor-pointer border-b hover:bg-well/60 [&>td]:px-2 [&>td:first-child]:pl-4" onClick={() => d.kind !== "other" && go(`/sites/${site.id}?device=${d.id}`)}>
            <td className={`whitespace-nowrap ${d.via ? "pl-8! text-[13px] text-soft" : "mono"}`}>{d.via ? `channel ${d.via.channel}` : d.address}</td>
            <td className="font-medium">{d.kind === "other" ? <span className="font-normal text-soft">{d.is || (d.named || d.claims.some((c) => c.method !== "neighbour table" && c.method !== "port sweep") ? d.name : "not a camera")}</span> : d.name}{d.left_at && <span className="ml-2 text-[13px] font-normal text-stuck">said goodbye {ago(d.left_at)}</span>}</td>
            <td><span className="inline-flex items-center gap-2"><TileMark mark={d.conflict ? "conflict" : d.kind} /> {d.conflict ? <span className="text-stuck">address conflict</span> : d.via ? <span>through {d.via.name}{d.via.camera && <span className="mono text-[13px] text-soft"> {d.via.camera}</span>}</span> : d.kind}{d.model && <span className="text-soft max-sm:hidden">{d.model}</span>}</span></td>
            <td className="mono text-[13px]">{d.ports.map((p) => <span key={p.number} className="mr-3 whitespace-nowrap">{p.number} <span className="text-soft">{p.speaks}</span></span>)}</td>
            <td className="text-[13px] text-soft max-md:hidden">{d.methods.join(", ")}</td>
            <td className="text-right max-sm:hidden">{d.web && <a href={d.web} target="_blank" rel="noreferrer" onClick={(e) => e.stopPropagation()} aria-label={`${d.name}: its own page`} title="Its own page" className="inline-block p-1 text-soft hover:text-ink"><ExternalLink size={14} /></a>}</td>
          </tr>
        ))}
      </tbody>
    </table>
    </>
  );
}

/** Devices heard outside the ranges: shown, and not connected to. */
function Strays({ devices, all }: { devices: Device[]; all: Device[] }) {
  const { site, changeSite } = useFrame();
  const go = useNavigate();
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
                <Reach device={d} />
              </li>
            ))}
          </ul>
          <Button className="mt-3" onClick={changeSite}>Change the ranges</Button>
        </>
      )}
      <ListShelf site={site.id} devices={all} choose={(id) => go(`/sites/${site.id}?device=${id}`)} />
    </aside>
  );
}

/** Reaching a stray takes an explicit consent that names its address and a reason; it ends by itself. */
function Reach({ device: d }: { device: Device }) {
  const { site } = useFrame();
  const [asking, setAsking] = useState(false);
  const [reason, setReason] = useState("New camera, to be given an address of this site");
  const consent = useConsent(site.id, d.id);
  const go = useNavigate();
  if (d.consent)
    return (
      <div className="mt-1 flex flex-wrap items-center gap-2 text-[13px]">
        <span className="text-open">Open until {new Date(d.consent).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", hour12: false })}</span>
        <Button look="next" className="h-7" onClick={() => go(`/sites/${site.id}?device=${d.id}`)}>To the bench</Button>
        <Button look="quiet" className="h-7" onClick={() => consent.mutate(null)}>Close again</Button>
      </div>
    );
  if (!asking) return <Button className="mt-1 h-7" onClick={() => setAsking(true)}>Reach it …</Button>;
  return (
    <form
      className="mt-2 space-y-2 border-l-4 border-brass pl-3"
      onSubmit={(e) => {
        e.preventDefault();
        consent.mutate({ address: d.address, reason });
      }}
    >
      <Guide device={d} />
      <Field label="Why" name="reason" required value={reason} onChange={(e) => setReason(e.target.value)} hint="Kept with your name." />
      <Button look="next" type="submit" disabled={!reason.trim() || consent.isPending}>Connect to {d.address} for 30 min</Button>
      <Button look="quiet" onClick={() => setAsking(false)}>Leave it</Button>
    </form>
  );
}

/** Which address this machine needs first, with the exact command. Unlatch does not change the machine's network by itself. */
function Guide({ device: d }: { device: Device }) {
  const guide = useGuidance(d.id);
  const g = guide.data;
  if (!g) return null;
  if (g.reachable) return <p className="text-[13px] text-soft">This machine has an address in that subnet ({g.interface}).</p>;
  if (!g.command) return <p className="text-[13px] text-stuck">This machine has no network card in use from which {d.address} could be reached.</p>;
  return (
    <div className="text-[13px]">
      <p>This machine has no address in that subnet. Add <span className="mono">{g.add}</span> to {g.interface} first:</p>
      <p className="mono my-1 bg-well px-2 py-1 break-all">{g.command}</p>
      <Copy text={g.command} label="Copy" /> <Copy text={g.undo ?? ""} label="Copy the command that takes it back" />
    </div>
  );
}
