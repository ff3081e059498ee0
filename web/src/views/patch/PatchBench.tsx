import { type KeyboardEvent, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { toast } from "sonner";
import type { Device, Fitting } from "@/api/client";
import { useTargets } from "@/api/queries";
import { useFill, useMove, usePlace, useTakeOff } from "@/api/targets";
import { Cords, type Line, reach } from "./Cords";
import { useKeys } from "@/parts/keys";
import { channelHeight, type Cord, cordsOf, dropOn, plugOn, type Row, rowAt, rowsOf, rowText } from "@/parts/patch";
import { type Carried, useHand } from "./useHand";
import { useScroll } from "./useScroll";
import { PatchCard } from "./PatchCard";
import { PatchChannel } from "./PatchChannel";
import { PatchRow } from "./PatchRow";
import { useFrame } from "@/parts/useFrame";

const gutter = 200;

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
  const [params, setParams] = useSearchParams();
  const focus = params.get("focus") ?? "";
  const focusOn = (id: string) => setParams(focus === id ? {} : { focus: id }, { replace: true });
  const [picked, setPicked] = useState<Set<string>>(new Set());
  const [said, setSaid] = useState("");
  const left = useScroll();
  const right = useScroll();
  const stage = useRef<HTMLDivElement>(null);
  const place = usePlace(site.id);
  const fill = useFill(site.id);
  const move = useMove(site.id);
  const takeOff = useTakeOff(site.id);

  const rows = useMemo(() => rowsOf(targets, channels), [targets, channels]);
  const cords = useMemo(() => cordsOf(rows), [rows]);
  const index = useMemo(() => new Map(channels.map((d, i) => [d.id, i])), [channels]);
  const end = rows.at(-1);
  const wanted = params.get("cord") ?? "";
  const chosenCord = wanted ? cords.find((c) => `${c.device.id} ${c.row.target.id}` === wanted) : undefined;
  const chosen = chosenCord?.row.key ?? "";
  const choose = (row?: Row) => setParams(row?.device ? { cord: `${row.device.id} ${row.target.id}` } : {}, { replace: true });
  // biome-ignore lint/correctness/useExhaustiveDependencies: only another choice brings its ends into sight, and no news of it does
  useEffect(() => {
    if (!chosenCord) return;
    right.show(chosenCord.row.y, chosenCord.row.h);
    left.show((index.get(chosenCord.device.id) ?? 0) * channelHeight, channelHeight);
  }, [chosen]);

  /** What is carried is let go over a row. */
  const letGo = useCallback(
    async (hand: Carried, row: Row | undefined) => {
      const away = hand.by === "pointer" && hand.x < gutter / 2;
      let drop = dropOn(hand, row, away, fittings);
      if (drop.does === "refuse") drop = dropOn(hand, row, away, await anew()); // it may have come onto a recorder a moment ago
      switch (drop.does) {
        case "refuse":
          toast.error(drop.problem, { description: drop.why });
          return;
        case "take off":
          takeOff.mutate({ devices: [drop.device], target: drop.target.id, name: drop.target.name, slots: [drop.slot] });
          return;
        case "move":
          move.mutate(drop);
          return;
        case "fill":
          fill.mutate({ target: drop.target, devices: drop.devices, start: drop.start, tune: drop.tune });
          break;
        case "place":
          place.mutate(drop);
          break;
        default:
          return;
      }
      setPicked(new Set());
    },
    [fittings, anew, fill, move, place, takeOff],
  );

  const rowUnder = useCallback(
    (clientX: number, clientY: number) => {
      const box = right.ref.current?.getBoundingClientRect();
      if (!box || clientX < box.left - 40 || clientY < box.top || clientY > box.bottom) return undefined;
      const y = clientY - box.top + right.top;
      const row = rows[rowAt(rows, y)];
      return row && y >= row.y ? row : undefined;
    },
    [rows, right.ref, right.top],
  );

  const { hand, setHand, drop, at } = useHand(stage, rowUnder, letGo);

  const focusRow = (row?: Row) => {
    if (!row) return;
    right.show(row.y, row.h);
    setTimeout(() => right.ref.current?.querySelector<HTMLElement>(`[data-row="${CSS.escape(row.key)}"]`)?.focus(), 30);
  };

  /** All that go along when the plug of a channel is taken: those that are picked, where it is one of them. */
  const along = (device: Device) => (picked.has(device.id) ? channels.filter((d) => picked.has(d.id)) : [device]);

  const takeByKey = (devices: Device[], from?: Row) => {
    setHand({ devices, by: "keys", from, x: gutter - 20, y: 0 });
    const first = rows.find((r) => r.kind === "slot" && r.slot?.is === "free" && plugOn(r, devices, fittings) !== "cannot");
    focusRow(first ?? rows.find((r) => r.kind === "slot"));
    const what = devices.length === 1 ? devices[0]!.name : `${devices.length} cameras`;
    setSaid(`${what} in hand. Walk with the arrow keys, drop with Enter, put back with Escape.`);
  };

  const step = (e: KeyboardEvent, row: Row, way: 1 | -1) => {
    e.preventDefault();
    let i = rows.indexOf(row) + way;
    while (rows[i] && rows[i]!.kind === "word") i += way;
    const next = rows[i];
    focusRow(next);
    if (next && hand) setSaid(rowText(next, hand.devices, fittings));
  };

  const stepChannel = (e: KeyboardEvent, i: number) => {
    e.preventDefault();
    const d = channels[i];
    if (!d) return;
    left.show(i * channelHeight, channelHeight);
    setTimeout(() => left.ref.current?.querySelector<HTMLElement>(`[data-channel="${d.id}"]`)?.focus(), 30);
  };

  const pick = (id: string) => {
    const next = new Set(picked);
    if (!next.delete(id)) next.add(id);
    setPicked(next);
  };

  useKeys({
    a: () => setPicked(picked.size === channels.length ? new Set() : new Set(channels.map((d) => d.id))),
    Escape: () => (hand ? setHand(null) : chosen ? choose() : picked.size > 0 ? setPicked(new Set()) : setParams({}, { replace: true })),
  });

  /** The height of a channel's plug in the stage. */
  const plugAt = (id: string) => (index.get(id) ?? 0) * channelHeight + channelHeight / 2 - left.top;

  const lineOf = (c: Cord): Line[] => {
    const from = plugAt(c.device.id);
    const to = c.row.y + c.row.h / 2 - right.top;
    if ((from < -20 && to < -20) || (from > left.height + 20 && to > left.height + 20)) return [];
    const hot = chosen === c.row.key;
    const dim = !hot && focus !== "" && focus !== c.device.id && focus !== c.row.target.id;
    return [{ key: c.row.key, from, to, state: c.state, dim: dim || (!!hand && !hot), hot }];
  };
  // biome-ignore lint/correctness/useExhaustiveDependencies: these are all that lineOf rests on
  const lines = useMemo(() => cords.flatMap(lineOf), [cords, index, left.top, left.height, right.top, focus, chosen, !hand]);

  const shown = (from: number, to: number, most: number) => [Math.max(0, from), Math.min(most, to)] as const;
  const [leftFrom, leftTo] = shown(
    Math.floor(left.top / channelHeight) - spare.channels,
    Math.ceil((left.top + left.height) / channelHeight) + spare.channels,
    channels.length,
  );
  const [rightFrom, rightTo] = shown(
    rowAt(rows, right.top - spare.targets),
    rowAt(rows, right.top + right.height + spare.targets) + 1,
    rows.length,
  );

  return (
    <div className="flex min-h-0 grow flex-col">
      <div className="relative grid min-h-0 grow" style={{ gridTemplateColumns: `minmax(250px, 1fr) ${gutter}px minmax(330px, 1.25fr)` }}>
        <section
          aria-label="Channels"
          className="min-h-0 overflow-auto bg-sheet [scrollbar-width:none]"
          ref={left.ref}
          onScroll={left.on}
          tabIndex={-1}
        >
          <ul style={{ height: channels.length * channelHeight, position: "relative" }}>
            {channels.slice(leftFrom, leftTo).map((d, k) => (
              <PatchChannel
                key={d.id}
                device={d}
                index={leftFrom + k}
                lit={focus === d.id || !!hand?.devices.includes(d)}
                alone={focus === d.id}
                picked={picked.has(d.id)}
                more={along(d).length - 1}
                onPick={() => pick(d.id)}
                onAlone={() => focusOn(d.id)}
                onTake={(e) => setHand({ devices: along(d), by: "pointer", ...at(e) })}
                onTakeByKey={() => takeByKey(along(d))}
                onStep={(e, way) => stepChannel(e, leftFrom + k + way)}
              />
            ))}
          </ul>
        </section>
        <div ref={stage} className="relative bg-paper">
          <Cords
            lines={lines}
            width={gutter + 2 * reach}
            height={left.height}
            loose={hand?.by === "pointer" ? { from: plugAt(hand.devices[0]!.id), x: Math.min(hand.x, gutter + 4), y: hand.y } : undefined}
          />
        </div>
        <section aria-label="Targets" className="min-h-0 overflow-auto" ref={right.ref} onScroll={right.on} tabIndex={-1}>
          <div style={{ height: end ? end.y + end.h + 24 : 0, position: "relative" }}>
            {rows.slice(rightFrom, rightTo).map((row) => (
              <PatchRow
                key={row.key}
                row={row}
                site={site.id}
                hand={hand?.devices}
                over={hand?.over === row.key}
                verdict={hand ? plugOn(row, hand.devices, fittings) : null}
                focus={focus}
                chosen={chosen === row.key}
                onFocusTarget={() => focusOn(row.target.id)}
                onChoose={() => choose(chosen === row.key ? undefined : row)}
                onDrop={() => hand && drop(hand, row)}
                onStep={(e, way) => step(e, row, way)}
                onTake={(e) => row.device && setHand({ devices: [row.device], by: "pointer", from: row, ...at(e) })}
                onTakeByKey={() => row.device && takeByKey([row.device], row)}
                onTakeOff={() =>
                  row.device &&
                  takeOff.mutate({ devices: [row.device.id], target: row.target.id, name: row.target.name, slots: [row.slot?.token] })
                }
                onFill={() =>
                  fill.mutate({
                    target: row.target.id,
                    devices: channels.filter((d) => picked.has(d.id)).map((d) => d.id),
                    start: row.slot?.token,
                    tune: true,
                  })
                }
                picked={picked.size}
              />
            ))}
          </div>
        </section>
      </div>
      {chosenCord && <PatchCard cord={chosenCord} onClose={() => choose()} />}
      {picked.size > 0 && !hand && (
        <p className="border-t bg-sheet px-4 py-1.5 text-small text-soft">
          {picked.size} picked: drag one of their plugs to carry them all, or press Fill from here on a slot.{" "}
          <Link className="underline" to={`/sites/${site.id}`}>
            Line-up
          </Link>
        </p>
      )}
      <p aria-live="polite" className="sr-only">
        {said}
      </p>
    </div>
  );
}
