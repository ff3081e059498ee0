import { Link } from "react-router";
import type { Device, Fitting } from "@/api/client";
import { useTargets } from "@/api/queries";
import { channelHeight, plugOn, rowAt } from "@/parts/patch";
import { useFrame } from "@/parts/useFrame";
import { Cords, gutter, inSight, type Line, reach } from "./Cords";
import { PatchCard } from "./PatchCard";
import { PatchChannel } from "./PatchChannel";
import { PatchRow } from "./PatchRow";
import { RelayOfferSheet } from "./RelayOfferSheet";
import { type Bench, useLines, usePatchBench } from "./usePatchBench";

/** Rows beyond the sight that are drawn all the same: of channels, and in pixels of targets. */
const spare = { channels: 4, targets: 160 };

type Props = {
  channels: Device[];
  fittings: Map<string, Fitting>;
  /** Asks for the fittings anew. */
  anew: () => Promise<Map<string, Fitting>>;
};

/** Channels at the left, slots at the right, and cords between them that can be pulled. */
export function PatchBench({ channels, fittings, anew }: Props) {
  const { site } = useFrame();
  const targets = useTargets(site.id).data ?? [];
  const bench = usePatchBench(site.id, targets, channels, fittings, anew);
  const { hand, picked, chosenCord, left, relay } = bench;
  const { lines, plugAt } = useLines(bench);
  const loose = hand?.by === "pointer" ? { from: plugAt(hand.devices[0]!.id), x: Math.min(hand.x, gutter + 4), y: hand.y } : undefined;
  return (
    <div className="flex min-h-0 grow flex-col">
      <div className="relative grid min-h-0 grow" style={{ gridTemplateColumns: `minmax(250px, 1fr) ${gutter}px minmax(330px, 1.25fr)` }}>
        <ChannelColumn bench={bench} channels={channels} />
        <div ref={bench.stage} className="relative bg-paper">
          <Away lines={lines} height={left.height} />
          <Cords lines={lines} width={gutter + 2 * reach} height={left.height} loose={loose} />
        </div>
        <TargetColumn bench={bench} site={site.id} fittings={fittings} />
      </div>
      {chosenCord && <PatchCard cord={chosenCord} onClose={() => bench.choose()} />}
      {picked.size > 0 && !hand && (
        <p className="border-t bg-sheet px-4 py-1.5 text-small text-soft">
          {picked.size} picked: drag one of their plugs to carry them all, or press Fill from here on a slot.{" "}
          <Link className="underline" to={`/sites/${site.id}`}>
            Line-up
          </Link>
        </p>
      )}
      {relay && (
        <RelayOfferSheet
          site={site.id}
          device={relay.device}
          target={relay.row.target}
          offer={relay.offer}
          reasons={relay.reasons}
          slot={relay.row.slot?.is === "free" ? relay.row.slot.token || undefined : undefined}
          onClose={bench.forgetRelay}
        />
      )}
      <p aria-live="polite" className="sr-only">
        {bench.said}
      </p>
    </div>
  );
}

/** How many cords lead out of sight, at the edge where they leave. */
function Away({ lines, height }: { lines: Line[]; height: number }) {
  const n = { up: 0, down: 0 };
  for (const l of lines) {
    const far = !inSight(l.from, height) ? l.from : l.to;
    if (!inSight(far, height)) n[far < 0 ? "up" : "down"]++;
  }
  const text = (count: number) => (count === 1 ? "1 cord" : `${count} cords`);
  const look = "absolute inset-x-8 z-10 truncate rounded-sm bg-sheet px-1 text-center text-small text-soft";
  return (
    <>
      {n.up > 0 && <p className={`${look} top-1`}>↑ {text(n.up)} up</p>}
      {n.down > 0 && <p className={`${look} bottom-1`}>↓ {text(n.down)} down</p>}
    </>
  );
}

/** The channels that are in sight. */
function ChannelColumn({ bench: b, channels }: { bench: Bench; channels: Device[] }) {
  const { left, hand, setHand, along, at } = b;
  const from = Math.max(0, Math.floor(left.top / channelHeight) - spare.channels);
  const to = Math.ceil((left.top + left.height) / channelHeight) + spare.channels;
  return (
    <section
      aria-label="Channels"
      className="min-h-0 overflow-auto bg-sheet [scrollbar-width:none]"
      ref={left.ref}
      onScroll={left.on}
      tabIndex={-1}
    >
      <ul style={{ height: channels.length * channelHeight, position: "relative" }}>
        {channels.slice(from, to).map((d, k) => (
          <PatchChannel
            key={d.id}
            device={d}
            index={from + k}
            lit={b.focus === d.id || !!hand?.devices.includes(d)}
            alone={b.focus === d.id}
            picked={b.picked.has(d.id)}
            more={along(d).length - 1}
            onPick={() => b.pick(d.id)}
            onAlone={() => b.focusOn(d.id)}
            onTake={(e) => setHand({ devices: along(d), by: "pointer", ...at(e) })}
            onTakeByKey={() => b.takeByKey(along(d))}
            onStep={(e, way) => b.stepChannel(e, from + k + way)}
          />
        ))}
      </ul>
    </section>
  );
}

/** The targets with their slots, as far as they are in sight. */
function TargetColumn({ bench: b, site, fittings }: { bench: Bench; site: string; fittings: Map<string, Fitting> }) {
  const { right, rows, hand, setHand, at } = b;
  const end = rows.at(-1);
  const from = Math.max(0, rowAt(rows, right.top - spare.targets));
  const to = rowAt(rows, right.top + right.height + spare.targets) + 1;
  return (
    <section aria-label="Targets" className="min-h-0 overflow-auto" ref={right.ref} onScroll={right.on} tabIndex={-1}>
      <div style={{ height: end ? end.y + end.h + 24 : 0, position: "relative" }}>
        {rows.slice(from, to).map((row) => (
          <PatchRow
            key={row.key}
            row={row}
            site={site}
            hand={hand?.devices}
            over={hand?.over === row.key}
            verdict={hand ? plugOn(row, hand.devices, fittings) : null}
            focus={b.focus}
            chosen={b.chosen === row.key}
            onFocusTarget={() => b.focusOn(row.target.id)}
            onChoose={() => b.choose(b.chosen === row.key ? undefined : row)}
            onDrop={() => hand && b.drop(hand, row)}
            onStep={(e, way) => b.step(e, row, way)}
            onTake={(e) => row.device && setHand({ devices: [row.device], by: "pointer", from: row, ...at(e) })}
            onTakeByKey={() => row.device && b.takeByKey([row.device], row)}
            onTakeOff={() => b.takeOffRow(row)}
            onFill={() => b.fill(row)}
            picked={b.picked.size}
          />
        ))}
      </div>
    </section>
  );
}
