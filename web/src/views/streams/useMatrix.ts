import { useCallback, useMemo, useState } from "react";
import { toast } from "sonner";
import { say, useNearest } from "@/api/actions";
import type { Device, Preset } from "@/api/client";
import { type Range, rangeRows } from "@/parts/grid";
import { fields, roles, type Role } from "@/parts/plan";
import { type Column, columnsOf, copied, type Draft, fillDown, pasted, put, readTable, tidy, wishOf } from "./matrix";
import type { GridActions } from "./StreamsGrid";
import { useDrafts } from "./useDrafts";
import { holdsWords } from "@/parts/words";

export type Matrix = ReturnType<typeof useMatrix>;

/** The matrix of a site's streams: which cameras and columns it shows, what is selected, what was typed and not sent yet. */
export function useMatrix(site: string, cameras: Device[]) {
  const [text, setText] = useState("");
  const [wantsThird, setThird] = useState(false);
  const [range, setRange] = useState<Range>({ row: 0, col: 0, toRow: 0, toCol: 0 });
  const [bad, setBad] = useState<string | null>(null);
  const { drafts, set, undo, redo, canUndo, canRedo } = useDrafts(site);

  const devices = useMemo(() => {
    const holds = holdsWords(text);
    return cameras.filter((d) => holds(d.name, d.address, d.maker, d.model));
  }, [cameras, text]);
  const third = wantsThird || cameras.some((d) => d.plan?.third || d.streams.some((s) => s.role === "third"));
  const shownRoles = useMemo<readonly Role[]>(() => (third ? roles : ["main", "sub"]), [third]);
  const columns = useMemo(() => columnsOf(shownRoles), [shownRoles]);
  const [top, bottom] = rangeRows(range);
  const picked = devices.slice(top, bottom + 1);

  const apply = useCallback(
    (cells: { row: number; col: number; text: string }[]) => {
      const out = put(drafts, devices, columns, cells);
      setBad(badText(out.bad, devices, columns));
      if (out.bad.length === 0) set(out.drafts);
      return out.bad.length === 0;
    },
    [drafts, devices, columns, set],
  );
  const actions: GridActions = {
    put: apply,
    fill: () => apply(fillDown(devices, columns, drafts, range)),
    copy: () => copied(devices, columns, drafts, range),
    paste: (clip) => {
      const table = readTable(clip);
      if (table.error) return setBad(`That is no table that could be pasted. ${table.error} Nothing was changed.`);
      const where = pasted(table.rows, range, devices.length, columns.length);
      if (where.error) return setBad(`${where.error} Nothing was changed.`);
      apply(where.cells);
    },
    undo,
    redo,
  };
  /** Lays whole wishes over drafts: of each device, what a preset or a reckoning says of its streams. */
  const lay = (list: { device: Device; wants: Draft }[]) => {
    const out = new Map(drafts);
    for (const { device: d, wants } of list) out.set(d.id, { ...out.get(d.id), ...wants });
    set(tidy(out, cameras));
  };
  const layPreset = (p: Preset) => {
    lay(picked.map((device) => ({ device, wants: wantsOf(p) })));
    toast(`“${p.name}” on ${picked.length} ${picked.length === 1 ? "camera" : "cameras"}, not sent yet`, {
      action: { label: "Undo", onClick: undo },
    });
  };
  const { layNearest, reckoning } = useLayNearest(site, picked, lay, setBad);
  const planBitrates = (list: { device: string; role: Role; kbps: number }[]) => {
    const out = new Map(drafts);
    const byId = new Map(cameras.map((d) => [d.id, d]));
    for (const x of list) {
      const d = byId.get(x.device);
      if (d) out.set(x.device, { ...out.get(x.device), [x.role]: { ...wishOf(d, x.role, out), bitrate_kbps: x.kbps } });
    }
    set(out);
    toast(`Bitrates planned for ${list.length} streams, not sent yet`, { action: { label: "Undo", onClick: undo } });
  };
  return {
    ...{ text, setText, devices, columns, shownRoles, showThird: third ? undefined : () => setThird(true) },
    ...{ range, picked, bad, drafts, set, undo, redo, canUndo, canRedo, actions, lay, layPreset, layNearest, reckoning, planBitrates },
    setRange: (r: Range) => {
      setBad(null);
      setRange(r);
    },
    /** Puts a text into the column in hand, of every camera that is selected. */
    pick: (value: string) => apply(picked.map((_, i) => ({ row: top + i, col: range.toCol, text: value }))),
    /** The cameras whose streams are not as they are wanted. */
    unmet: cameras.filter((d) => drafts.has(d.id) || Object.values(d.tunes ?? {}).some((t) => t.state === "differs")),
    /** What could not be sent stays typed. */
    forget: (sent: string[]) => set(new Map([...drafts].filter(([id]) => !sent.includes(id)))),
  };
}

/** Asks for the plans nearest to what the selected cameras send now, and lays them over. */
function useLayNearest(
  site: string,
  picked: Device[],
  lay: (list: { device: Device; wants: Draft }[]) => void,
  setBad: (text: string) => void,
) {
  const nearest = useNearest(site);
  const byId = new Map(picked.map((d) => [d.id, d]));
  const layNearest = () =>
    nearest.mutate(
      picked.map((d) => d.id),
      {
        onSuccess: (out) => {
          const clash = out.find((x) => x.conflicts.length > 0);
          if (clash)
            setBad(
              `No plan suits all targets of ${byId.get(clash.device)?.name}: ${clash.conflicts
                .map((c) => c.demands.map((x) => `${x.target} wants ${c.field} ${x.wants}`).join(", "))
                .join("; ")}.`,
            );
          const wanted = out.filter((x) => Object.keys(x.plan).length > 0);
          lay(wanted.map((x) => ({ device: byId.get(x.device)!, wants: wantsOf(x) })));
          if (wanted.length === 0 && !clash) toast("Their targets take them as they are, as far as it is said what those accept.");
        },
        onError: say,
      },
    );
  return { layNearest, reckoning: nearest.isPending };
}

/** What a preset or a reckoning wants of a device. */
const wantsOf = ({ plan, streams }: Pick<Preset, "plan" | "streams">): Draft => ({
  ...streams,
  ...(plan.overlay !== undefined && { overlay: plan.overlay }),
});

function badText(bad: { row: number; col: number; text: string; error: string }[], devices: Device[], columns: Column[]) {
  const first = bad[0];
  if (!first) return null;
  const c = columns[first.col]!;
  const name = fields.find((f) => f.field === c.field)!.long.toLowerCase();
  const more = bad.length > 1 ? ` ${bad.length - 1} more cells cannot be read.` : "";
  return (
    `“${first.text}” cannot be the ${name} of ${devices[first.row]?.name}, ${c.role} stream. ` +
    `${first.error}${more} Nothing was changed.`
  );
}
