import { type KeyboardEvent, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import type { Device, Fitting, Target } from "@/api/client";
import { useKeys } from "@/parts/keys";
import { channelHeight, type Cord, cordsOf, plugOn, type Row, rowAt, rowsOf, rowText } from "@/parts/patch";
import { gutter, type Line } from "./Cords";
import { useHand } from "./useHand";
import { useLetGo } from "./useLetGo";
import { useScroll } from "./useScroll";

export type Bench = ReturnType<typeof usePatchBench>;

/** What the bench shows, what is picked and carried on it, and where the columns stand. */
export function usePatchBench(
  site: string,
  targets: Target[],
  channels: Device[],
  fittings: Map<string, Fitting>,
  anew: () => Promise<Map<string, Fitting>>,
) {
  const [params, setParams] = useSearchParams();
  const focus = params.get("focus") ?? "";
  const focusOn = (id: string) => setParams(focus === id ? {} : { focus: id }, { replace: true });
  const [picked, setPicked] = useState<Set<string>>(new Set());
  const [said, setSaid] = useState("");
  const left = useScroll();
  const right = useScroll();
  const stage = useRef<HTMLDivElement>(null);
  const unpick = useCallback(() => setPicked(new Set()), []);
  const { letGo, takeOffRow, fillFrom, relay, forgetRelay } = useLetGo(site, fittings, anew, unpick);

  const rows = useMemo(() => rowsOf(targets, channels), [targets, channels]);
  const cords = useMemo(() => cordsOf(rows), [rows]);
  const index = useMemo(() => new Map(channels.map((d, i) => [d.id, i])), [channels]);
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

  return {
    ...{ rows, cords, index, left, right, stage, hand, setHand, drop, at, focus, focusOn, picked, pick, said, chosen, chosenCord, choose },
    ...{ along, takeByKey, step, stepChannel, takeOffRow, relay, forgetRelay },
    fill: (row: Row) =>
      fillFrom(
        row,
        channels.filter((d) => picked.has(d.id)).map((d) => d.id),
      ),
  };
}

/** The cords that are in sight, as they hang now. */
export function useLines({ cords, index, left, right, focus, chosen, hand }: Bench) {
  /** The height of a channel's plug in the stage. */
  const plugAt = (id: string) => (index.get(id) ?? 0) * channelHeight + channelHeight / 2 - left.top;

  const lineOf = (c: Cord): Line[] => {
    const from = plugAt(c.device.id);
    const to = c.row.y + c.row.h / 2 - right.top;
    if ((from < -20 && to < -20) || (from > left.height + 20 && to > left.height + 20)) return [];
    const hot = chosen === c.row.key;
    const dim = !hot && focus !== "" && focus !== c.device.id && focus !== c.row.target.id;
    return [{ key: c.row.key, from, to, state: c.state, dim: dim || (!!hand && !hot), hot, relay: c.placement.relay !== undefined }];
  };
  // biome-ignore lint/correctness/useExhaustiveDependencies: these are all that lineOf rests on
  const lines = useMemo(() => cords.flatMap(lineOf), [cords, index, left.top, left.height, right.top, focus, chosen, !hand]);

  return { lines, plugAt };
}
