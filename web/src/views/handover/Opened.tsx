import { useFindAndOpen } from "@/api/actions";
import { useOpened } from "@/api/handover";
import { useMay } from "@/api/queries";
import { Button } from "@/parts/Button";
import { useFrame } from "@/parts/useFrame";
import { ChangeList } from "./ChangeList";

/** How a site that was opened from a pack stands to that pack: what was found, what is missing, and what is otherwise. */
export function Opened() {
  const { site } = useFrame();
  const may = useMay();
  const opened = useOpened(site.id).data;
  const find = useFindAndOpen(site.id);
  if (!opened?.opened) return null;
  const names = (list: { title: string; address: string }[]) =>
    list
      .slice(0, 8)
      .map((d) => `${d.title} (${d.address})`)
      .join(", ") + (list.length > 8 ? ` and ${list.length - 8} more` : "");
  const found = opened.same.length + opened.different.filter((c) => !c.target).length;
  return (
    <section aria-label="Taken over from a pack" data-opened className="mb-8 border-l-4 border-brass bg-sheet px-4 py-3">
      <div className="flex flex-wrap items-start justify-between gap-3">
        <p className="min-w-0 grow basis-72">
          <span className="font-semibold">Taken over from version {opened.number}</span>{" "}
          <span className="text-soft">
            by {opened.made_by}, {new Date(opened.made_at!).toLocaleDateString()}. Nothing counts as measured until it is.
          </span>
        </p>
        {may("work") && (
          <Button look={opened.missing.length > 0 ? "next" : "plain"} disabled={find.isPending} onClick={() => find.mutate(undefined)}>
            Find them and open their latches
          </Button>
        )}
      </div>
      <dl className="mt-2 grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 text-small">
        <dt className="text-soft">Found</dt>
        <dd className="num" data-found>
          {found} of {found + opened.missing.length}
        </dd>
        {opened.missing.length > 0 && (
          <>
            <dt className="text-stuck">Missing</dt>
            <dd data-missing>{names(opened.missing)}</dd>
          </>
        )}
        {opened.surplus.length > 0 && (
          <>
            <dt className="text-soft">Not in the pack</dt>
            <dd data-surplus>{names(opened.surplus)}</dd>
          </>
        )}
        {opened.unknown > 0 && (
          <>
            <dt className="text-soft">Not looked at yet</dt>
            <dd className="num">{opened.unknown} facts of the pack</dd>
          </>
        )}
      </dl>
      {opened.different.length > 0 && (
        <div className="mt-3">
          <h2 className="mb-1 font-semibold">
            {opened.different.length === 1
              ? "1 is otherwise than the pack says"
              : `${opened.different.length} are otherwise than the pack says`}
          </h2>
          <ChangeList list={opened.different} none="" />
        </div>
      )}
    </section>
  );
}
