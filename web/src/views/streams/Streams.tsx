import { ChevronDown, Redo2, RotateCcw, Search, Undo2 } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useCallback, useMemo, useState } from "react";
import { toast } from "sonner";
import { say, useNearest, useTune } from "@/api/actions";
import type { Device, Preset } from "@/api/client";
import { useBudgets, usePresets, useRuns } from "@/api/queries";
import { PlanSheet } from "./PlanSheet";
import { PresetsSheet } from "./PresetsSheet";
import { TargetsSheet } from "./TargetsSheet";
import { Button } from "@/parts/Button";
import { columnsOf, copied, type Draft, fillDown, pasted, put, type Range, rangeRows, readTable, tidy, wishOf } from "./matrix";
import { cellText, fields, measuredText, planned, roles, type Role, signOf } from "@/parts/plan";
import { useDrafts } from "./useDrafts";
import { useMedia } from "@/parts/useMedia";
import { useNavigate } from "react-router";
import { useFrame } from "@/parts/useFrame";
import { plansOf, StreamsCosts } from "./StreamsCosts";
import { StreamsGrid, type GridActions } from "./StreamsGrid";
import { offered } from "./StreamsRow";
import { StreamsPhone } from "./StreamsPhone";
import { type Sending, StreamsPreview } from "@/parts/StreamsPreview";

/** What is planned of every stream beside what was measured, and what all of it costs. */
export function Streams() {
  const { site, devices: all } = useFrame();
  const navigate = useNavigate();
  const [text, setText] = useState("");
  const [wantsThird, setThird] = useState(false);
  const [range, setRange] = useState<Range>({ row: 0, col: 0, toRow: 0, toCol: 0 });
  const [bad, setBad] = useState<string | null>(null);
  const [sheet, setSheet] = useState<"plan" | "targets" | "presets" | null>(null);
  const [sending, setSending] = useState<Sending | null>(null);
  const [costs, setCosts] = useState(true);
  const phone = !useMedia("(min-width: 640px)");
  const wide = useMedia("(min-width: 1100px)");
  const presets = usePresets();
  const budgets = useBudgets(site.id);
  const runs = useRuns(site.id);
  const nearest = useNearest(site.id);
  const tune = useTune(site.id);
  const cameras = useMemo(() => all.filter((d) => d.kind === "camera" && !d.stray), [all]);
  const { drafts, set, undo, redo, canUndo, canRedo } = useDrafts(site.id);

  const devices = useMemo(() => {
    const words = text.toLowerCase().split(/\s+/).filter(Boolean);
    return cameras.filter((d) => words.every((w) => `${d.name} ${d.address} ${d.maker} ${d.model}`.toLowerCase().includes(w)));
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
  const layNearest = () =>
    nearest.mutate(
      picked.map((d) => d.id),
      {
        onSuccess: (out) => {
          const clash = out.find((x) => x.conflicts.length > 0);
          if (clash)
            setBad(
              `No plan suits all targets of ${devices.find((d) => d.id === clash.device)?.name}: ${clash.conflicts
                .map((c) => c.demands.map((x) => `${x.target} wants ${c.field} ${x.wants}`).join(", "))
                .join("; ")}.`,
            );
          lay(
            out
              .filter((x) => Object.keys(x.plan).length > 0)
              .map((x) => ({ device: devices.find((d) => d.id === x.device)!, wants: wantsOf(x) })),
          );
          if (out.every((x) => Object.keys(x.plan).length === 0 && x.conflicts.length === 0))
            toast("Their targets take them as they are, as far as it is said what those accept.");
        },
        onError: say,
      },
    );
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

  const unmet = cameras.filter((d) => drafts.has(d.id) || Object.values(d.tunes ?? {}).some((t) => t.state === "differs"));
  const show = () => setSending({ devices: unmet.map((d) => d.id), plans: plansOf(drafts) });
  // What could not be sent stays typed.
  const sent = (ids: string[]) => set(new Map([...drafts].filter(([id]) => !ids.includes(id))));
  const putBack = picked.filter((d) => d.tuning);
  const running = runs.data?.find((r) => r.kind === "tune" && r.state === "running");

  const preSend = <StreamsPreview site={site.id} sending={sending} close={() => setSending(null)} onSent={sent} devices={cameras} />;
  if (cameras.length === 0)
    return (
      <div className="p-10 text-center">
        <p className="mb-1 text-lg">No cameras yet</p>
        <p className="text-soft">Find the cameras of the site and open their latches; their streams are set here.</p>
      </div>
    );
  if (phone)
    return (
      <>
        <StreamsPhone devices={cameras} drafts={drafts} set={set} undo={canUndo ? undo : undefined} unmet={unmet.length} preview={show} />
        {preSend}
      </>
    );
  return (
    <div className={`grid h-full min-h-0 ${wide && costs ? "grid-cols-[minmax(0,1fr)_310px]" : "grid-cols-[minmax(0,1fr)]"}`}>
      <section className="flex min-h-0 min-w-0 flex-col" aria-label="Streams">
        <div className="flex min-h-12 shrink-0 flex-wrap items-center gap-2 border-b px-4 py-2">
          <Button look={unmet.length > 0 ? "next" : "plain"} className="h-9" disabled={unmet.length === 0} onClick={show}>
            {unmet.length === 0 ? "Nothing to send" : `Preview ${unmet.length} ${unmet.length === 1 ? "camera" : "cameras"}`}
          </Button>
          <PresetMenu
            presets={presets.data ?? []}
            count={picked.length}
            use={layPreset}
            plan={() => setSheet("plan")}
            books={() => setSheet("presets")}
          />
          <Button onClick={layNearest} disabled={nearest.isPending} title="The settings nearest to the present ones that all targets take">
            Nearest plan
          </Button>
          <OverlayMenu lay={(overlay) => lay(picked.map((device) => ({ device, wants: { overlay } })))} />
          <Button look="quiet" className="px-2" aria-label="Undo" title="Undo (Ctrl Z)" disabled={!canUndo} onClick={undo}>
            <Undo2 size={16} />
          </Button>
          <Button look="quiet" className="px-2" aria-label="Redo" title="Redo (Ctrl Y)" disabled={!canRedo} onClick={redo}>
            <Redo2 size={16} />
          </Button>
          {putBack.length > 0 && (
            <Button
              look="quiet"
              disabled={tune.isPending || !!running}
              onClick={() => tune.mutate({ devices: putBack.map((d) => d.id), undo: true }, { onError: say })}
            >
              <RotateCcw size={14} /> Put back {putBack.length}
            </Button>
          )}
          <span className="grow" />
          <Button look="quiet" onClick={() => navigate(`/sites/${site.id}/multicast`)} title="What the groups of the streams really carry">
            Multicast
          </Button>
          <Button look="quiet" onClick={() => setSheet("targets")}>
            Targets
          </Button>
          {(!wide || !costs) && (
            <Button look="quiet" onClick={() => setCosts(!costs)}>
              What it costs
            </Button>
          )}
        </div>
        {!wide && !costs ? (
          <StreamsCosts site={site.id} devices={cameras} drafts={drafts} planBitrates={planBitrates} />
        ) : (
          <>
            <StreamsGrid
              devices={devices}
              columns={columns}
              shownRoles={shownRoles}
              drafts={drafts}
              budgets={budgets.data ?? []}
              search={
                <label className="relative block h-full">
                  <Search size={13} className="absolute top-2 left-2 text-soft" aria-hidden />
                  <input
                    value={text}
                    onChange={(e) => setText(e.target.value)}
                    onKeyDown={(e) => e.stopPropagation()}
                    placeholder="Name, model"
                    aria-label="Search the streams"
                    className="h-7 w-full rounded-md border bg-sheet pr-1 pl-7 text-small text-ink"
                  />
                </label>
              }
              corner={
                !third && (
                  <button
                    type="button"
                    title="Show the third stream too"
                    onClick={() => setThird(true)}
                    className="rounded-sm px-1 text-small text-soft underline hover:text-ink"
                  >
                    + third
                  </button>
                )
              }
              range={range}
              setRange={(r) => {
                setBad(null);
                setRange(r);
              }}
              actions={actions}
            />
            <Inspector
              device={devices[range.toRow]}
              columns={columns}
              range={range}
              count={picked.length}
              drafts={drafts}
              bad={bad}
              pick={(t) => {
                const cells = [];
                for (let row = top; row <= bottom; row++) cells.push({ row, col: range.toCol, text: t });
                apply(cells);
              }}
            />
          </>
        )}
      </section>
      {wide && costs && <StreamsCosts site={site.id} devices={cameras} drafts={drafts} planBitrates={planBitrates} />}
      {preSend}
      <PlanSheet
        site={site.id}
        open={sheet === "plan"}
        onOpenChange={(o) => setSheet(o ? "plan" : null)}
        picked={picked}
        presets={presets.data ?? []}
      />
      <TargetsSheet site={site.id} open={sheet === "targets"} onOpenChange={(o) => setSheet(o ? "targets" : null)} />
      <PresetsSheet open={sheet === "presets"} onOpenChange={(o) => setSheet(o ? "presets" : null)} presets={presets.data ?? []} />
    </div>
  );
}

/** What a preset or a reckoning wants of a device. */
const wantsOf = ({ plan, streams }: Pick<Preset, "plan" | "streams">): Draft => ({
  ...streams,
  ...(plan.overlay !== undefined && { overlay: plan.overlay }),
});

function badText(
  bad: { row: number; col: number; text: string; error: string }[],
  devices: Device[],
  columns: ReturnType<typeof columnsOf>,
) {
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

function PresetMenu({
  presets,
  count,
  use,
  plan,
  books,
}: {
  presets: Preset[];
  count: number;
  use: (p: Preset) => void;
  plan: () => void;
  books: () => void;
}) {
  const item = "cursor-pointer rounded-sm px-3 py-1.5 outline-none data-highlighted:bg-well";
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="inline-flex h-8 items-center gap-1.5 rounded-md border bg-sheet px-3 hover:bg-well">
        Preset on {count} {count === 1 ? "camera" : "cameras"} <ChevronDown size={14} className="text-soft" />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="start"
          sideOffset={4}
          onCloseAutoFocus={toGrid}
          className="z-50 max-h-[70vh] w-80 overflow-auto rounded-md border bg-sheet p-1 shadow-xl"
        >
          {presets.map((p) => (
            <DropdownMenu.Item key={`${p.book} ${p.name}`} className={item} onSelect={() => use(p)}>
              <span className="block font-medium">{p.name}</span>
              <span className="block text-small text-soft">{p.note || p.book}</span>
            </DropdownMenu.Item>
          ))}
          <DropdownMenu.Separator className="my-1 border-t" />
          <DropdownMenu.Item className={item} onSelect={plan}>
            Plan for the site, a model, a selection …
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={books}>
            Bring and send presets …
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** After a choice the keys belong to the matrix again. */
const toGrid = (e: Event) => {
  e.preventDefault();
  document.querySelector<HTMLElement>("[role=grid]")?.focus();
};

const overlays = [
  ["Name and time", "name, time"],
  ["Name", "name"],
  ["Time", "time"],
  ["No text", "none"],
] as const;

/** The text in the pictures of what is selected. */
function OverlayMenu({ lay }: { lay: (overlay: string) => void }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="inline-flex h-8 items-center gap-1.5 rounded-md px-2 text-soft hover:bg-well hover:text-ink">
        Text <ChevronDown size={14} />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="start"
          sideOffset={4}
          onCloseAutoFocus={toGrid}
          className="z-50 rounded-md border bg-sheet p-1 shadow-xl"
        >
          <DropdownMenu.Label className="px-3 py-1 text-small text-soft">Drawn into the picture</DropdownMenu.Label>
          {overlays.map(([name, text]) => (
            <DropdownMenu.Item
              key={name}
              className="cursor-pointer rounded-sm px-3 py-1.5 outline-none data-highlighted:bg-well"
              onSelect={() => lay(text)}
            >
              {name}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

const withUnit = (text: string, unit: string) => (/^[\d.]+$/.test(text) ? text + unit : text);

/** The cell in hand in words: whose plan it is, what was measured, what can be picked. */
function Inspector({
  device: d,
  columns,
  range,
  count,
  drafts,
  bad,
  pick,
}: {
  device: Device | undefined;
  columns: ReturnType<typeof columnsOf>;
  range: Range;
  count: number;
  drafts: ReturnType<typeof useDrafts>["drafts"];
  bad: string | null;
  pick: (text: string) => void;
}) {
  const c = columns[range.toCol];
  if (!d || !c) return null;
  const f = fields.find((x) => x.field === c.field)!;
  const wish = wishOf(d, c.role, drafts);
  const changed = cellText(c.field, wish) !== cellText(c.field, planned(d, c.role));
  const plan = cellText(c.field, wish);
  const got = measuredText(
    c.field,
    d.streams.find((s) => s.role === c.role),
  );
  const tune = d.tunes?.[c.role];
  return (
    <div
      className="flex min-h-11 shrink-0 flex-wrap items-center gap-x-4 gap-y-1 border-t bg-sheet px-4 py-1.5 text-small"
      aria-live="polite"
    >
      {bad ? (
        <span role="alert" className="text-stuck">
          {bad}
        </span>
      ) : (
        <>
          <span className="font-medium">
            {count > 1 ? `${count} cameras` : d.name}, {c.role} stream, {f.long.toLowerCase()}
          </span>
          <span>
            {plan ? (
              <>
                wanted <span className="mono">{withUnit(plan, f.unit)}</span>{" "}
                <span className="text-soft">({changed ? "typed, not sent" : (d.plan?.[c.role]?.whose ?? "")})</span>
              </>
            ) : (
              <span className="text-soft">left as it is</span>
            )}
          </span>
          {got && (
            <span>
              measured <span className="mono">{withUnit(got, f.unit)}</span>
            </span>
          )}
          {!changed && signOf(d, c.role, c.field) === "differs" && (
            <span className="text-stuck">differs{tune?.sent ? " although it was sent" : ", not sent yet"}</span>
          )}
          {offered(d, c).length > 0 && (
            <span className="flex flex-wrap gap-1" role="group" aria-label={`Pick the ${f.long.toLowerCase()}`}>
              {offered(d, c).map((o) => (
                <button key={o} type="button" onClick={() => pick(o)} className="mono rounded-sm border px-1.5 hover:bg-well">
                  {o}
                </button>
              ))}
            </span>
          )}
        </>
      )}
    </div>
  );
}
