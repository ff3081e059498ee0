import { useBringIntakes, useDropIntakes, useSetIntake } from "@/api/actions";
import { useIntakes, useTargets } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { FileButton } from "@/parts/FileButton";
import { Sheet } from "@/parts/Sheet";

/** What each target of the site accepts, by the intake book. */
export function TargetsSheet({ site, open, onOpenChange }: { site: string; open: boolean; onOpenChange: (open: boolean) => void }) {
  const targets = useTargets(site);
  const intakes = useIntakes();
  const set = useSetIntake(site);
  const bring = useBringIntakes();
  const drop = useDropIntakes();
  const own = new Map((intakes.data ?? []).filter((x) => x.book_id).map((x) => [x.book_id!, x.book]));
  return (
    <Sheet title="What the targets accept" open={open} onOpenChange={onOpenChange}>
      <p className="mb-3 text-soft">
        Streams are compared with what each target accepts. Where no plan says otherwise, a camera is tuned when every target that it is
        wanted on takes one of its streams.
      </p>
      {targets.data?.length === 0 && <p className="mb-3">No recorder of this site is signed in to yet: open its latches first.</p>}
      <ul className="divide-y border-y">
        {(targets.data ?? []).map((t) => (
          <li key={t.id} className="flex items-center gap-3 py-2">
            <span className="min-w-0 grow truncate font-medium">{t.name || "Recorder"}</span>
            <select
              aria-label={`What ${t.name || "the recorder"} accepts`}
              value={t.intake ?? ""}
              onChange={(e) => set.mutate({ target: t.id, name: e.target.value })}
              className="h-9 w-56 rounded-md border bg-sheet px-1.5"
            >
              <option value="">nobody has said</option>
              {(intakes.data ?? []).map((x) => (
                <option key={`${x.book} ${x.name}`}>{x.name}</option>
              ))}
            </select>
          </li>
        ))}
      </ul>
      <Foot error={set.error ?? bring.error ?? drop.error}>
        <FileButton name="Intake book file" accept=".yaml,.yml" onFile={async (f) => bring.mutate(await f.text())}>
          Bring an intake book
        </FileButton>
        <a className="underline" href="/api/intakes/shipped/file">
          The product’s own, to copy from
        </a>
        {[...own].map(([id, name]) => (
          <Button key={id} look="quiet" onClick={() => drop.mutate(id)}>
            Remove “{name}”
          </Button>
        ))}
      </Foot>
    </Sheet>
  );
}
