import { Search } from "lucide-react";
import { useMemo, useState } from "react";
import { useBudgets, usePresets } from "@/api/queries";
import { type Sending, StreamsPreview } from "@/parts/StreamsPreview";
import { useFrame } from "@/parts/useFrame";
import { useMedia } from "@/parts/useMedia";
import { PlanSheet } from "./PlanSheet";
import { PresetsSheet } from "./PresetsSheet";
import { plansOf, StreamsCosts } from "./StreamsCosts";
import { StreamsGrid } from "./StreamsGrid";
import { StreamsInspector } from "./StreamsInspector";
import { StreamsPhone } from "./StreamsPhone";
import { type StreamsSheet, StreamsToolbar } from "./StreamsToolbar";
import { TargetsSheet } from "./TargetsSheet";
import { type Matrix, useMatrix } from "./useMatrix";

/** What is planned of every stream beside what was measured, and what all of it costs. */
export function Streams() {
  const { site, devices: all } = useFrame();
  const [sheet, setSheet] = useState<StreamsSheet | null>(null);
  const [sending, setSending] = useState<Sending | null>(null);
  const [costs, setCosts] = useState(true);
  const phone = !useMedia("(min-width: 640px)");
  const wide = useMedia("(min-width: 1100px)");
  const cameras = useMemo(() => all.filter((d) => d.kind === "camera" && !d.stray), [all]);
  const m = useMatrix(site.id, cameras);
  const show = () => setSending({ devices: m.unmet.map((d) => d.id), plans: plansOf(m.drafts) });
  const preview = <StreamsPreview site={site.id} sending={sending} close={() => setSending(null)} onSent={m.forget} devices={cameras} />;
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
        <StreamsPhone
          devices={cameras}
          drafts={m.drafts}
          set={m.set}
          undo={m.canUndo ? m.undo : undefined}
          unmet={m.unmet.length}
          preview={show}
        />
        {preview}
      </>
    );
  const beside = wide && costs; // what it costs has a place beside the matrix
  const reckoned = <StreamsCosts site={site.id} devices={cameras} drafts={m.drafts} planBitrates={m.planBitrates} />;
  return (
    <div className={`grid h-full min-h-0 ${beside ? "grid-cols-[minmax(0,1fr)_310px]" : "grid-cols-[minmax(0,1fr)]"}`}>
      <section className="flex min-h-0 min-w-0 flex-col" aria-label="Streams">
        <StreamsToolbar matrix={m} preview={show} openSheet={setSheet} showCosts={beside ? undefined : () => setCosts(!costs)} />
        {!wide && !costs ? reckoned : <MatrixInHand site={site.id} matrix={m} />}
      </section>
      {beside && reckoned}
      {preview}
      <Sheets sheet={sheet} setSheet={setSheet} matrix={m} />
    </div>
  );
}

/** The matrix with its search, and below it the cell in hand. */
function MatrixInHand({ site, matrix: m }: { site: string; matrix: Matrix }) {
  const budgets = useBudgets(site);
  return (
    <>
      <StreamsGrid
        devices={m.devices}
        columns={m.columns}
        shownRoles={m.shownRoles}
        drafts={m.drafts}
        budgets={budgets.data ?? []}
        search={
          <label className="relative block h-full">
            <Search size={13} className="absolute top-2 left-2 text-soft" aria-hidden />
            <input
              value={m.text}
              onChange={(e) => m.setText(e.target.value)}
              onKeyDown={(e) => e.stopPropagation()}
              placeholder="Name, model"
              aria-label="Search the streams"
              className="h-7 w-full rounded-md border bg-sheet pr-1 pl-7 text-small text-ink"
            />
          </label>
        }
        corner={
          m.showThird && (
            <button
              type="button"
              title="Show the third stream too"
              onClick={m.showThird}
              className="rounded-sm px-1 text-small text-soft underline hover:text-ink"
            >
              + third
            </button>
          )
        }
        range={m.range}
        setRange={m.setRange}
        actions={m.actions}
      />
      <StreamsInspector
        device={m.devices[m.range.toRow]}
        columns={m.columns}
        range={m.range}
        count={m.picked.length}
        drafts={m.drafts}
        bad={m.bad}
        pick={m.pick}
      />
    </>
  );
}

function Sheets({
  sheet,
  setSheet,
  matrix: m,
}: {
  sheet: StreamsSheet | null;
  setSheet: (sheet: StreamsSheet | null) => void;
  matrix: Matrix;
}) {
  const { site } = useFrame();
  const presets = usePresets().data ?? [];
  const props = (name: StreamsSheet) => ({ open: sheet === name, onOpenChange: (o: boolean) => setSheet(o ? name : null) });
  return (
    <>
      <PlanSheet site={site.id} {...props("plan")} picked={m.picked} presets={presets} />
      <TargetsSheet site={site.id} {...props("targets")} />
      <PresetsSheet {...props("presets")} presets={presets} />
    </>
  );
}
