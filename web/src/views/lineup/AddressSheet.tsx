import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { ArrowRight } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { api, must, Problem, type Device, type Site } from "@/api/client";
import type { components } from "@/api/schema";
import { useSetAddress } from "@/api/actions";
import { useInterfaces } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Check } from "@/parts/Check";
import { Field } from "@/forms/Field";
import { skew, stillOf } from "@/parts/measures";
import { Sheet } from "@/parts/Sheet";
import { Still } from "@/parts/Still";
import { VirtualRows } from "@/parts/VirtualRows";
import { useDelayed } from "@/parts/useDelayed";
import { Choice } from "@/parts/Choice";

type Network = Site["network"];

/** Where to begin when a site has no pool yet: the upper part of its first /24, and the gateway that this machine uses there. */
export function suggest(site: Pick<Site, "ranges" | "network">, gateways: string[]): Network {
  if (site.network.pool) return site.network;
  const net = site.ranges.map((r) => /^(\d+\.\d+\.\d+)\.\d+(\/|$|-)/.exec(r)?.[1]).find(Boolean);
  if (!net) return { ...site.network, bits: 24 };
  return { pool: `${net}.101-${net}.199`, dhcp: "", gateway: gateways.find((g) => g.startsWith(`${net}.`)) ?? "", bits: 24 };
}

/** Gives addresses to the devices in hand: old beside new, what is wrong with each, and one button. Nothing is sent before it. */
export function AddressSheet({
  site,
  devices,
  open,
  onOpenChange,
}: {
  site: Site;
  devices: Device[];
  open: boolean;
  onOpenChange: (open: boolean) => void;
}) {
  const scroller = useRef<HTMLDivElement>(null);
  const interfaces = useInterfaces();
  const [network, setNetwork] = useState<Network | null>(null);
  const [names, setNames] = useState(false);
  const [clocks, setClocks] = useState(true);
  const [more, setMore] = useState(false);
  // Names may be equal where nobody has given any: a picture tells cameras of one model apart.
  const pictures = new Map(devices.map((d) => [d.id, stillOf(d)]));
  const [order, setOrder] = useState<"name" | "address" | "heard">("name");
  useEffect(() => {
    if (open && interfaces.data && !network) setMore(!!(site.network.dns || site.network.ntp || site.network.time_zone));
    if (open && interfaces.data && !network) setNetwork(suggest(site, interfaces.data.map((i) => i.gateway ?? "").filter(Boolean)));
  }, [open, interfaces.data, network, site]);
  const ids = devices.map((d) => d.id);
  const asked = useDelayed(network, 350);
  const plan = useQuery({
    queryKey: ["plan", site.id, ids, order, asked],
    queryFn: () =>
      must(
        api.POST("/api/sites/{site}/address-plan", { params: { path: { site: site.id } }, body: { devices: ids, order, network: asked! } }),
      ),
    enabled: open && !!asked,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const send = useSetAddress(site.id);
  const lines = plan.error ? [] : (plan.data?.assignments ?? []);
  // One that keeps its address still takes what goes along with it.
  const along = !!(network?.dns || network?.ntp || network?.time_zone || names);
  const ready = lines.filter((l) => !l.problem && (!l.keep || along || (clocks && !!l.skew_ms)));
  const troubled = lines.filter((l) => l.problem);
  const field = plan.error instanceof Problem ? plan.error.cause.replace("bad_", "") : "";
  const errorAt = (name: string) => (field === name && plan.error instanceof Problem ? plan.error.message : undefined);
  const set = (part: Partial<Network>) => setNetwork((n) => n && { ...n, ...part });
  const apply = (dhcp: boolean) =>
    send.mutate(
      {
        title: runTitle(dhcp, devices, dhcp ? devices.length : ready.length),
        lines: dhcp
          ? devices.map((d) => ({ device: d.id, dhcp: true }))
          : ready.map((l) => ({
              device: l.device,
              address: l.new,
              bits: network!.bits,
              gateway: network!.gateway,
              dns: network!.dns,
              ntp: network!.ntp,
              time_zone: network!.time_zone,
              host: names ? l.host : undefined,
              clock: clocks && (!!l.skew_ms || !!network!.ntp),
            })),
        network: dhcp ? undefined : network!,
      },
      { onSuccess: () => onOpenChange(false) },
    );
  return (
    <Sheet
      title={`Addresses for ${devices.length === 1 ? devices[0]!.name : `${devices.length} devices`}`}
      open={open}
      onOpenChange={onOpenChange}
      wide
    >
      {network && (
        <>
          <NetworkFields network={network} set={set} errorAt={errorAt} more={more} setMore={setMore} />
          <div className="mt-2 flex flex-wrap gap-x-5 text-small">
            <Tick label="Name each device after its camera" checked={names} onChange={setNames} />
            <Tick label="Set clocks right that are wrong" checked={clocks} onChange={setClocks} />
          </div>
          {plan.error instanceof Problem && <p className="mt-1 text-small text-soft">{plan.error.fix}</p>}
          <div className="mt-3 mb-2 flex items-center gap-2 text-small">
            <span className="text-soft">In order of</span>
            <Choice
              label="Order"
              value={order}
              onChange={setOrder}
              className="gap-1"
              options={[
                ["name", "name"],
                ["address", "address now"],
                ["heard", "first heard"],
              ]}
            />
          </div>
          <div ref={scroller} className="max-h-[29vh] overflow-auto border-y">
            <table className="w-full" aria-rowcount={lines.length}>
              <tbody>
                <VirtualRows
                  items={lines}
                  scroller={scroller}
                  height={33}
                  id={(l) => l.device}
                  row={(l, _, measured) => (
                    <tr {...measured} data-plan={l.name} className="h-8 border-b last:border-b-0 [&>td]:px-2">
                      <LineCells
                        line={l}
                        picture={pictures.get(l.device)}
                        along={[names && l.host, clocks && !!l.skew_ms && `clock ${skew(l.skew_ms)}`]}
                      />
                    </tr>
                  )}
                />
              </tbody>
            </table>
            {!plan.data && !plan.error && <p className="p-3 text-soft">Looking which addresses are free …</p>}
          </div>
          <p className="mt-3 text-small text-soft">
            Each device is sent its address, restarted if it asks for that, and found again by its identity. Its latches are opened anew and
            its recorder gets the new URL. The old setting is kept for undo.
          </p>
          <Foot error={send.error ?? (plan.error && !shownByField.includes(field) ? plan.error : null)}>
            {troubled.length > 0 && (
              <span className="mr-auto text-small text-stuck">
                {troubled.length} {troubled.length === 1 ? "line is" : "lines are"} left out
              </span>
            )}
            <Button onClick={() => apply(true)} disabled={send.isPending}>
              Put to DHCP instead
            </Button>
            <Button
              look="next"
              disabled={ready.length === 0 || send.isPending || plan.isFetching || asked !== network}
              onClick={() => apply(false)}
            >
              Send {ready.length}{" "}
              {ready.every((l) => l.keep) && ready.length > 0 ? "settings" : ready.length === 1 ? "address" : "addresses"}
            </Button>
          </Foot>
        </>
      )}
    </Sheet>
  );
}

const runTitle = (dhcp: boolean, devices: Device[], n: number) =>
  `${dhcp ? "Put to DHCP" : "Give addresses to"} ${devices.length === 1 ? devices[0]!.name : `${n} devices`}`;

type Assignment = components["schemas"]["AssignmentView"];

/** The causes of problems that stand beside their field. */
const shownByField = ["pool", "range", "bits", "gateway", "dhcp", "dns", "ntp", "time_zone"];

function Tick({ label, checked, onChange }: { label: string; checked: boolean; onChange: (on: boolean) => void }) {
  return (
    <label className="flex items-center gap-2">
      <Check checked={checked} onChange={() => onChange(!checked)} label={label} /> {label}
    </label>
  );
}

/** How the site's addresses are laid out, field by field. */
function NetworkFields({
  network,
  set,
  errorAt,
  more,
  setMore,
}: {
  network: Network;
  set: (part: Partial<Network>) => void;
  errorAt: (field: string) => string | undefined;
  more: boolean;
  setMore: (on: boolean) => void;
}) {
  return (
    <>
      <div className="grid gap-3 sm:grid-cols-[2fr_90px_1.2fr_2fr]">
        <Field
          label="Camera pool"
          name="pool"
          autoFocus
          mono
          autoComplete="off"
          value={network.pool}
          onChange={(e) => set({ pool: e.target.value })}
          error={errorAt("pool") ?? errorAt("range")}
        />
        <Field
          label="Mask"
          name="bits"
          mono
          inputMode="numeric"
          autoComplete="off"
          value={`/${network.bits}`}
          onChange={(e) => set({ bits: Number(e.target.value.replace(/\D/g, "")) })}
          error={errorAt("bits")}
        />
        <Field
          label="Gateway"
          name="gateway"
          mono
          autoComplete="off"
          value={network.gateway}
          placeholder="leave as it is"
          onChange={(e) => set({ gateway: e.target.value })}
          error={errorAt("gateway")}
        />
        <Field
          label="DHCP pool, kept free"
          name="dhcp"
          mono
          autoComplete="off"
          value={network.dhcp}
          placeholder="192.0.2.200-192.0.2.250"
          onChange={(e) => set({ dhcp: e.target.value })}
          error={errorAt("dhcp")}
        />
      </div>
      {more ? (
        <div className="mt-3 grid gap-3 sm:grid-cols-3">
          <Field
            label="Name servers"
            name="dns"
            mono
            autoComplete="off"
            autoFocus
            value={network.dns ?? ""}
            placeholder="leave as they are"
            onChange={(e) => set({ dns: e.target.value })}
            error={errorAt("dns")}
          />
          <Field
            label="Time server"
            name="ntp"
            mono
            autoComplete="off"
            value={network.ntp ?? ""}
            placeholder="leave as it is"
            onChange={(e) => set({ ntp: e.target.value })}
            error={errorAt("ntp")}
          />
          <Field
            label="Time zone, POSIX form"
            name="time_zone"
            mono
            autoComplete="off"
            value={network.time_zone ?? ""}
            placeholder="GMT0BST,M3.5.0/1,M10.5.0"
            onChange={(e) => set({ time_zone: e.target.value })}
            error={errorAt("time_zone")}
          />
        </div>
      ) : (
        <button type="button" className="mt-2 text-small underline hover:text-ink" onClick={() => setMore(true)}>
          Name servers, time server, time zone …
        </button>
      )}
    </>
  );
}

/** One device of the plan: where it is, where it goes, what goes along. */
function LineCells({ line: l, picture, along }: { line: Assignment; picture?: string; along: (string | false)[] }) {
  return (
    <>
      <td className="max-w-60">
        <span className="flex items-center gap-2">
          <Still src={picture} name={l.name} className="h-6 w-[43px]" />
          <span className="truncate">{l.name}</span>
        </span>
      </td>
      <td className="mono text-right text-soft">{l.old}</td>
      <td className="w-6 text-soft">
        <ArrowRight size={14} aria-label="becomes" />
      </td>
      <td className={`mono ${l.keep ? "text-soft" : "font-semibold"}`}>{l.new}</td>
      <td className={`text-small ${l.problem ? "text-stuck" : "text-soft"}`}>
        {l.problem || [l.keep ? "stays: it lies in the pool" : "free", ...along].filter(Boolean).join(" · ")}
      </td>
    </>
  );
}
