import { memo, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import type { Device, Site } from "@/api/client";
import { useInterfaces, useRuns } from "@/api/queries";
import { netsOf, within } from "./nets";

/** How many /24 fields stand side by side; a site with more gets an overview of all, and one field at a time. */
const mostFields = 4;

type Mark = "camera" | "recorder" | "other" | "conflict" | "self" | "gateway" | "planned" | "pool" | "dhcp" | "free";

const markNames: Record<Mark, string> = {
  camera: "camera",
  recorder: "recorder",
  other: "something else",
  conflict: "address conflict",
  self: "this machine",
  gateway: "gateway",
  planned: "about to be given",
  pool: "camera pool",
  dhcp: "DHCP pool",
  free: "nothing heard",
};

/** What stands at each address: a device that was heard, else what the site's layout says of the address. */
function useMarks(site: Site, devices: Device[]) {
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

/** The address field: every address of a /24 as a tile. */
export const Fields = memo(function Fields({ site, devices }: { site: Site; devices: Device[] }) {
  const go = useNavigate();
  const { byAddress, mark } = useMarks(site, devices);
  const nets = useMemo(
    () =>
      netsOf(
        site.ranges,
        devices.map((d) => d.address),
      ),
    [devices, site.ranges],
  );
  const [chosen, setChosen] = useState<string | null>(null);
  const many = nets.length > mostFields;
  const busiest = useMemo(() => [...nets].sort((a, b) => heardIn(devices, b) - heardIn(devices, a))[0], [nets, devices]);
  const shown = many ? [chosen ?? busiest!] : nets;
  const present = new Set<Mark>(["camera", "recorder", "other", "free"]);
  for (const net of shown) for (let i = 0; i < 256; i++) present.add(mark(`${net}.${i}`));
  return (
    // biome-ignore lint/a11y/useKeyWithClickEvents: the list below has every device as a row that keys reach
    <section
      aria-label="Addresses"
      className="flex flex-wrap gap-x-10 gap-y-4 border-b px-4 py-3"
      onClick={(e) => {
        const id = (e.target as Element).closest<HTMLElement>("[data-open]")?.dataset.open;
        if (id) go(`/sites/${site.id}?device=${id}`);
      }}
    >
      {many && <Overview nets={nets} devices={devices} chosen={shown[0]!} choose={setChosen} />}
      {shown.map((net) => (
        <div key={net}>
          <div className="mb-1.5 text-small">
            <span className="mono">{net}.0/24</span>
          </div>
          <div role="img" aria-label={`${heardIn(devices, net)} addresses of ${net}.0/24 are taken; the list below has them`}>
            {Array.from({ length: 8 }, (_, row) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: the rows of a field never move
              <div key={row} className="mb-0.5 flex gap-0.5 max-sm:gap-px">
                <span className="mono w-8 pr-1 text-right text-tiny leading-[14px] text-soft max-sm:hidden">.{row * 32}</span>
                {Array.from({ length: 32 }, (_, i) => `${net}.${row * 32 + i}`).map((a) => {
                  const d = byAddress.get(a);
                  return <Tile key={a} address={a} mark={mark(a)} name={d?.name} open={d && d.kind !== "other" ? d.id : undefined} />;
                })}
              </div>
            ))}
          </div>
        </div>
      ))}
      <ul
        className="flex flex-col justify-end gap-1 text-small text-soft max-sm:flex-row max-sm:flex-wrap max-sm:justify-start
        max-sm:gap-x-4"
      >
        {(Object.keys(markNames) as Mark[])
          .filter((m) => present.has(m))
          .map((m) => (
            <li key={m} className="flex items-center gap-2">
              <TileMark mark={m} /> {markNames[m]}
            </li>
          ))}
      </ul>
    </section>
  );
});

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
      <div className="mb-1.5 text-small">{nets.length} networks, devices heard in each</div>
      <div
        role="group"
        aria-label="Networks"
        className="grid grid-cols-[repeat(24,24px)] gap-0.5 xl:grid-cols-[repeat(32,24px)] max-sm:grid-cols-[repeat(12,24px)]"
      >
        {nets.map((net) => {
          const n = counts.get(net) ?? 0;
          return (
            <button
              key={net}
              type="button"
              aria-pressed={net === chosen}
              aria-label={`${net}.0/24: ${n} devices`}
              title={`${net}.0/24`}
              onClick={() => choose(net)}
              className={`num grid h-6 place-items-center rounded-[1.5px] text-tiny
                ${n ? "bg-ink text-paper" : "bg-well text-soft"} ${net === chosen ? "outline-2 outline-offset-1 outline-ink" : ""}`}
            >
              {n || ""}
            </button>
          );
        })}
      </div>
    </div>
  );
}

/** Each kind of address has a sign of its own. */
export const TileMark = ({ mark }: { mark: Mark }) => <span className={`tile tile-${mark}`} aria-hidden />;

type TileProps = { address: string; mark: Mark; name?: string; open?: string };

/** One address. It is drawn again only when what stands there changes: a site has a thousand of them. */
const Tile = memo(function Tile({ address, mark, name, open }: TileProps) {
  const look = `tile tile-${mark}`;
  if (name) return <span className={`${look} ${open ? "cursor-pointer" : ""}`} title={`${address} ${name}`} data-open={open} />;
  return (
    <span className={look} title={mark === "free" || mark === "pool" || mark === "dhcp" ? undefined : `${address}: ${markNames[mark]}`} />
  );
});
