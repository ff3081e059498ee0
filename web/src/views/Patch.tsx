import { Plus, RefreshCw } from "lucide-react";
import { type KeyboardEvent, useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { toast } from "sonner";
import type { Device, Fitting } from "@/api/client";
import { useOpenLatches } from "@/api/actions";
import { useFittings, useTargets } from "@/api/queries";
import { useFill, useLookAt, useMove, usePlace, useTakeOff } from "@/api/targets";
import { TargetSheet } from "@/forms/TargetSheet";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { Choice } from "@/parts/Choice";
import { Cords, type Line, reach } from "@/parts/Cords";
import { Socket } from "@/parts/Jack";
import { useKeys } from "@/parts/keys";
import { channelHeight, cordsOf, endless, plugOn, reasonsText, type Row, rowAt, rowsOf } from "@/parts/patch";
import { stillOf } from "@/parts/measures";
import { Still } from "@/parts/Still";
import { Trouble } from "@/parts/Trouble";
import { useMedia } from "@/parts/useMedia";
import { PatchCard } from "./PatchCard";
import { PatchRow } from "./PatchRow";
import { PatchTable } from "./PatchTable";
import { useFrame } from "./SiteFrame";

const gutter = 200;

/** What is taken in the hand: cameras whose cord is carried, and the slot that it was pulled out of. */
type Hand = { devices: Device[]; from?: Row; by: "pointer" | "keys"; x: number; y: number; over?: string };

/** The patch bench: channels at the left, targets with their slots at the right, a cord for each placement. */
export function Patch() {
  const { site, devices } = useFrame();
  const wide = useMedia("(min-width: 900px)");
  const [look, setLook] = useState<"cords" | "table">("cords");
  const targets = useTargets(site.id);
  const [adding, setAdding] = useState(false);
  const [only, setOnly] = useState(false);
  const lookAt = useLookAt(site.id);
  const open = useOpenLatches(site.id);
  const channels = useMemo(() => devices.filter((d) => d.kind === "camera" && !d.stray), [devices]);
  const list = useMemo(() => targets.data ?? [], [targets.data]);
  const fittings = useFittings(
    site.id,
    useMemo(() => channels.map((d) => d.id), [channels]),
  );
  const [params, setParams] = useSearchParams();
  const broken = channels.flatMap((d) => d.placements.filter((p) => p.diagnosis).map((p) => ({ device: d.id, target: p.target })));
  const nextBroken = () => {
    const at = params.get("cord");
    const i = broken.findIndex((b) => `${b.device} ${b.target}` === at);
    const b = broken[(i + 1) % broken.length];
    if (b) setParams({ cord: `${b.device} ${b.target}` }, { replace: true });
  };
  const behind = channels.filter((d) => d.placements.some((p) => p.moved));
  if (targets.error) return <Trouble error={targets.error} />;
  const head = (
    <div className="flex flex-wrap items-center gap-2 border-b bg-sheet px-3 py-2 sm:px-4">
      <p className="min-w-0 grow text-soft max-sm:hidden">{hint(channels, list.length)}</p>
      {broken.length > 0 && (
        <Button
          look={behind.length > 0 || params.get("cord") ? "plain" : "next"}
          aria-pressed={!wide && only}
          onClick={() => (wide && look === "cords" ? nextBroken() : setOnly(!only))}
        >
          {only ? "Show all again" : broken.length === 1 ? "See what is broken" : `See the ${broken.length} that are broken`}
        </Button>
      )}
      {behind.length > 0 && (
        <Button look="next" onClick={() => open.mutate({ devices: behind.map((d) => d.id) })}>
          Bring {behind.length === 1 ? "1 camera" : `${behind.length} cameras`} up to date
        </Button>
      )}
      {wide && (
        <Choice
          label="Shown as"
          value={look}
          onChange={setLook}
          options={[
            ["cords", "Cords"],
            ["table", "Table"],
          ]}
        />
      )}
      <Button onClick={() => lookAt.mutate({})} disabled={list.length === 0}>
        <RefreshCw size={14} /> Look again
      </Button>
      <Button look={list.length === 0 ? "next" : "plain"} onClick={() => setAdding(true)}>
        <Plus size={14} /> Add a target
      </Button>
    </div>
  );
  return (
    <div className="flex h-full flex-col">
      <h1 className="sr-only">Patch</h1>
      {head}
      {list.length === 0 && targets.data ? (
        <div className="m-auto max-w-md space-y-2 p-6 text-center">
          <p className="text-lead font-semibold">Nothing takes cameras here yet</p>
          <p className="text-soft">
            A recorder that is signed in to stands here by itself. Add what no sweep finds: management software, a panel, a hub, screens, a
            list for anything else.
          </p>
        </div>
      ) : wide && look === "cords" ? (
        <Bench channels={channels} fittings={fittings.data ?? new Map()} anew={async () => (await fittings.refetch()).data ?? new Map()} />
      ) : (
        <PatchTable
          channels={only ? channels.filter((d) => d.placements.some((p) => p.diagnosis)) : channels}
          targets={list}
          fittings={fittings.data ?? new Map()}
        />
      )}
      {adding && <TargetSheet site={site.id} open onOpenChange={setAdding} targets={list} />}
    </div>
  );
}

function hint(channels: Device[], targets: number) {
  const all = channels.flatMap((d) => d.placements);
  const broken = all.filter((p) => p.diagnosis).length;
  const waiting = all.filter((p) => !p.diagnosis && !p.confirmed).length;
  if (targets === 0) return "";
  if (broken > 0) return `${broken === 1 ? "1 cord is" : `${broken} cords are`} broken.`;
  if (waiting > 0) return `${waiting === 1 ? "1 cord waits" : `${waiting} cords wait`} for the target’s word.`;
  return all.length > 0
    ? `All ${all.length} placements are confirmed.`
    : "Drag a camera’s plug into a slot, or take it with T and walk with the arrow keys.";
}

function Bench({
  channels,
  fittings,
  anew,
}: {
  channels: Device[];
  fittings: Map<string, Fitting>;
  anew: () => Promise<Map<string, Fitting>>;
}) {
  const { site } = useFrame();
  const targets = useTargets(site.id).data ?? [];
  const [params, setParams] = useSearchParams();
  const focus = params.get("focus") ?? "";
  const [picked, setPicked] = useState<Set<string>>(new Set());
  const [hand, setHand] = useState<Hand | null>(null);
  const wanted = params.get("cord") ?? "";
  const setChosen = (key: string) => {
    const row = rows.find((r) => r.key === key);
    setParams(row?.device ? { cord: `${row.device.id} ${row.target.id}` } : {}, { replace: true });
  };
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
  const chosenCord = wanted ? cords.find((c) => `${c.device.id} ${c.row.target.id}` === wanted) : undefined;
  const chosen = chosenCord?.row.key ?? "";
  // biome-ignore lint/correctness/useExhaustiveDependencies: only another choice brings its ends into sight, and no news of it does
  useEffect(() => {
    if (!chosenCord) return;
    right.show(chosenCord.row.y, chosenCord.row.h);
    left.show((index.get(chosenCord.device.id) ?? 0) * channelHeight, channelHeight);
  }, [chosen]);

  const lines = useMemo<Line[]>(() => {
    const out: Line[] = [];
    for (const c of cords) {
      const from = index.get(c.device.id)! * channelHeight + channelHeight / 2 - left.top;
      const to = c.row.y + c.row.h / 2 - right.top;
      if ((from < -20 && to < -20) || (from > left.height + 20 && to > left.height + 20)) continue;
      const hot = chosen === c.row.key;
      const dim = !hot && focus !== "" && focus !== c.device.id && focus !== c.row.target.id;
      out.push({ key: c.row.key, from, to, state: c.state, dim: dim || (!!hand && !hot), hot });
    }
    return out;
  }, [cords, index, left.top, left.height, right.top, focus, chosen, hand]);

  /** What is carried is let go over a row. */
  const letGo = useCallback(
    async (h: Hand, row: Row | undefined) => {
      setHand(null);
      if (row?.kind !== "slot") {
        if (h.from?.placement && h.by === "pointer" && row === undefined && h.x < gutter / 2) {
          takeOff.mutate({ devices: [h.devices[0]!.id], target: h.from.target.id, name: h.from.target.name, slots: [h.from.slot?.token] });
        }
        return;
      }
      const name = row.target.name;
      if (h.from && h.from.target.id === row.target.id) {
        if (h.from.key !== row.key && row.slot?.token)
          move.mutate({ device: h.devices[0]!.id, target: row.target.id, slot: row.slot.token, from: h.from.slot?.token });
        return;
      }
      let known = fittings;
      if (plugOn(row, h.devices, known) === "cannot") known = await anew(); // it may have come onto a recorder a moment ago
      const verdict = plugOn(row, h.devices, known);
      if (verdict === "taken" || verdict === "cannot") {
        const f = known.get(`${h.devices[0]!.id} ${row.target.id}`);
        toast.error(verdict === "taken" ? `${row.slot?.label || "That slot"} is not free.` : `${name} cannot take it.`, {
          description: row.slot?.why || reasonsText(f),
        });
        return;
      }
      const tune = verdict === "after_tuning";
      if (h.devices.length > 1 && row.slot?.token && !endless(row.target)) {
        fill.mutate({ target: row.target.id, devices: h.devices.map((d) => d.id), start: row.slot.token, tune });
        return;
      }
      place.mutate({
        placements: h.devices.map((d) => ({
          device: d.id,
          target: row.target.id,
          slot: row.slot?.is === "free" || row.device ? row.slot?.token || undefined : undefined,
          replaces: row.device && row.device.id !== d.id ? row.device.id : undefined,
        })),
        tune,
        name,
      });
      setPicked(new Set());
    },
    [fittings, anew, fill, move, place, takeOff],
  );

  const rowUnder = useCallback(
    (clientY: number, clientX: number) => {
      const box = right.ref.current?.getBoundingClientRect();
      if (!box || clientX < box.left - 40 || clientY < box.top || clientY > box.bottom) return undefined;
      const y = clientY - box.top + right.top;
      const row = rows[rowAt(rows, y)];
      return row && y >= row.y ? row : undefined;
    },
    [rows, right.ref, right.top],
  );

  /** Takes the plug of a channel, or of all that are picked, in the hand. */
  const take = (device: Device, by: Hand["by"], at?: { x: number; y: number }, from?: Row) => {
    const devices = !from && picked.has(device.id) ? channels.filter((d) => picked.has(d.id)) : [device];
    setHand({ devices, by, from, x: at?.x ?? gutter - 20, y: at?.y ?? 0 });
    if (by === "keys") {
      const first = rows.find((r) => r.kind === "slot" && r.slot?.is === "free" && plugOn(r, devices, fittings) !== "cannot");
      focusRow(first ?? rows.find((r) => r.kind === "slot"));
      setSaid(
        `${devices.length === 1 ? devices[0]!.name : `${devices.length} cameras`} in hand. Walk with the arrow keys, drop with Enter, put back with Escape.`,
      );
    }
  };

  const focusRow = (row?: Row) => {
    if (!row) return;
    right.show(row.y, row.h);
    setTimeout(() => right.ref.current?.querySelector<HTMLElement>(`[data-row="${CSS.escape(row.key)}"]`)?.focus(), 30);
  };

  useEffect(() => {
    if (hand?.by !== "pointer") return;
    const box = () => stage.current!.getBoundingClientRect();
    const on = (e: PointerEvent) => {
      const b = box();
      setHand((h) => h && { ...h, x: e.clientX - b.left, y: e.clientY - b.top, over: rowUnder(e.clientY, e.clientX)?.key });
    };
    const up = (e: PointerEvent) => {
      const b = box();
      letGo({ ...hand, x: e.clientX - b.left }, rowUnder(e.clientY, e.clientX));
    };
    const esc = (e: globalThis.KeyboardEvent) => e.key === "Escape" && setHand(null);
    window.addEventListener("pointermove", on);
    window.addEventListener("pointerup", up);
    window.addEventListener("keydown", esc);
    return () => {
      window.removeEventListener("pointermove", on);
      window.removeEventListener("pointerup", up);
      window.removeEventListener("keydown", esc);
    };
  }, [hand, letGo, rowUnder]);

  useKeys({
    a: () => setPicked(picked.size === channels.length ? new Set() : new Set(channels.map((d) => d.id))),
    Escape: () =>
      hand ? setHand(null) : chosen ? setChosen("") : picked.size > 0 ? setPicked(new Set()) : setParams({}, { replace: true }),
  });

  const step = (e: KeyboardEvent, row: Row, way: 1 | -1) => {
    e.preventDefault();
    let i = rows.indexOf(row) + way;
    while (rows[i] && rows[i]!.kind === "word") i += way;
    focusRow(rows[i]);
    const next = rows[i];
    if (next && hand) {
      const v = plugOn(next, hand.devices, fittings);
      setSaid(
        `${next.target.name}, ${next.kind === "head" ? "its head" : next.slot?.label || next.slot?.token}: ${v ? { fits: "fits", after_tuning: "fits after tuning", cannot: "cannot", unknown: "not proven yet", taken: "not free" }[v] : ""}`,
      );
    }
  };

  const leftFrom = Math.max(0, Math.floor(left.top / channelHeight) - 4);
  const leftTo = Math.min(channels.length, Math.ceil((left.top + left.height) / channelHeight) + 4);
  const rightFrom = Math.max(0, rowAt(rows, right.top - 160));
  const rightTo = Math.min(rows.length, rowAt(rows, right.top + right.height + 160) + 1);
  const stepChannel = (e: KeyboardEvent, i: number) => {
    e.preventDefault();
    const d = channels[i];
    if (!d) return;
    left.show(i * channelHeight, channelHeight);
    setTimeout(() => left.ref.current?.querySelector<HTMLElement>(`[data-channel="${d.id}"]`)?.focus(), 30);
  };

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
            {channels.slice(leftFrom, leftTo).map((d, k) => {
              const i = leftFrom + k;
              return (
                <li
                  key={d.id}
                  className={`absolute right-0 left-0 flex items-center gap-2 border-b pr-1 pl-3 ${focus === d.id ? "bg-well" : ""} ${hand?.devices.includes(d) ? "bg-well" : ""}`}
                  style={{ top: i * channelHeight, height: channelHeight }}
                >
                  <Check
                    label={`Pick ${d.name}`}
                    checked={picked.has(d.id)}
                    onChange={() => {
                      const next = new Set(picked);
                      if (!next.delete(d.id)) next.add(d.id);
                      setPicked(next);
                    }}
                  />
                  <Still src={stillOf(d)} name={d.name} className="h-7 w-12" />
                  <button
                    type="button"
                    className="min-w-0 grow truncate text-left"
                    aria-pressed={focus === d.id}
                    title="Show its cords alone"
                    onClick={() => setParams(focus === d.id ? {} : { focus: d.id }, { replace: true })}
                  >
                    {d.name} <span className="mono text-small text-soft">{d.via ? `channel ${d.via.channel}` : d.address}</span>
                  </button>
                  <span className="num text-small text-soft" title="targets that it stands on">
                    {d.placements.length || ""}
                  </span>
                  <button
                    type="button"
                    data-channel={d.id}
                    aria-label={`Take the plug of ${d.name}${picked.has(d.id) && picked.size > 1 ? ` and ${picked.size - 1} more` : ""}`}
                    className="grid size-8 cursor-grab touch-none place-items-center rounded-full hover:bg-well"
                    onPointerDown={(e) => {
                      if (e.button !== 0) return;
                      e.preventDefault();
                      const b = stage.current!.getBoundingClientRect();
                      take(d, "pointer", { x: e.clientX - b.left, y: e.clientY - b.top });
                    }}
                    onKeyDown={(e) => {
                      if (e.key === "Enter" || e.key === "t" || e.key === "T") {
                        e.preventDefault();
                        take(d, "keys");
                      }
                      if (e.key === "ArrowDown") stepChannel(e, i + 1);
                      if (e.key === "ArrowUp") stepChannel(e, i - 1);
                    }}
                  >
                    <Socket is={d.placements.length > 0 ? "used" : "free"} />
                  </button>
                </li>
              );
            })}
          </ul>
        </section>
        <div ref={stage} className="relative bg-paper">
          <Cords
            lines={lines}
            width={gutter + 2 * reach}
            height={left.height}
            loose={
              hand && hand.by === "pointer"
                ? {
                    from: (index.get(hand.devices[0]!.id) ?? 0) * channelHeight + channelHeight / 2 - left.top,
                    x: Math.min(hand.x, gutter + 4),
                    y: hand.y,
                  }
                : undefined
            }
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
                onFocusTarget={() => setParams(focus === row.target.id ? {} : { focus: row.target.id }, { replace: true })}
                onChoose={() => setChosen(chosen === row.key ? "" : row.key)}
                onDrop={() => hand && letGo(hand, row)}
                onStep={(e, way) => step(e, row, way)}
                onTake={(e) => {
                  if (!row.device) return;
                  const b = stage.current!.getBoundingClientRect();
                  take(row.device, "pointer", { x: e.clientX - b.left, y: e.clientY - b.top }, row);
                }}
                onTakeByKey={() => row.device && take(row.device, "keys", undefined, row)}
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
      {chosenCord && <PatchCard cord={chosenCord} onClose={() => setChosen("")} />}
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

/** How far a column is scrolled, and how much of it shows. */
function useScroll() {
  const ref = useRef<HTMLElement>(null);
  const [at, setAt] = useState({ top: 0, height: 600 });
  const due = useRef(0);
  const read = useCallback(() => {
    const el = ref.current;
    if (el) setAt((a) => (a.top === el.scrollTop && a.height === el.clientHeight ? a : { top: el.scrollTop, height: el.clientHeight }));
  }, []);
  useLayoutEffect(() => {
    read();
    const el = ref.current;
    if (!el || typeof ResizeObserver === "undefined") return;
    const o = new ResizeObserver(read);
    o.observe(el);
    return () => o.disconnect();
  }, [read]);
  return {
    ref,
    ...at,
    on: () => {
      due.current ||= requestAnimationFrame(() => {
        due.current = 0;
        read();
      });
    },
    show: (y: number, h: number) => {
      const el = ref.current;
      if (!el) return;
      if (y < el.scrollTop) el.scrollTop = y - 8;
      else if (y + h > el.scrollTop + el.clientHeight) el.scrollTop = y + h - el.clientHeight + 8;
    },
  };
}
