import { useState } from "react";
import { Link } from "react-router";
import { useDrifts, useLookNow } from "@/api/drifts";
import { useMay } from "@/api/queries";
import { Button } from "@/parts/Button";
import { ago } from "@/parts/measures";
import { Trouble } from "@/parts/Trouble";
import { useFrame } from "@/parts/useFrame";
import { Finding } from "./Finding";
import { RoundsSheet } from "./RoundsSheet";
import { Tellings } from "./Tellings";
import { headline, roundsInWords } from "./words";

/** What of the site is not as it was agreed on, the gravest first, with the button that mends it; and how the site is watched. */
export function Drift() {
  const { site } = useFrame();
  const drifts = useDrifts(site.id);
  const may = useMay();
  if (drifts.error) return <Trouble error={drifts.error} />;
  const view = drifts.data;
  if (!view) return null;
  const told = view.findings.filter((f) => !f.put_off);
  const off = view.findings.filter((f) => f.put_off);
  return (
    <div className="h-full overflow-auto">
      <div className="mx-auto max-w-6xl p-4 sm:p-8">
        <h1 className="mb-1 text-xl font-semibold">Drift</h1>
        <p role="status" className={`mb-5 text-lg ${told.length > 0 ? "" : "text-open"}`}>
          {view.agreed ? headline(view.findings) : "Nothing is agreed on yet, so nothing can be told from a change."}
        </p>
        <div className="grid gap-x-10 gap-y-8 lg:grid-cols-[1fr_19rem]">
          <div className="min-w-0">
            {!view.agreed && (
              <div className="border-y py-10 text-center">
                <p className="mb-4">When the site is finished, agree on its state. From then on it can be watched.</p>
                <Link
                  to={`/sites/${site.id}/agreed`}
                  className="inline-flex h-8 items-center rounded-md bg-brass px-3 font-semibold text-on-brass"
                >
                  Agree on the state of now
                </Link>
              </div>
            )}
            <ol aria-label="Findings" className="border-t empty:hidden">
              {told.map((f, i) => (
                <Finding key={f.ids[0]} finding={f} first={i === 0} />
              ))}
            </ol>
            {off.length > 0 && (
              <section className="mt-8">
                <h2 className="mb-2 text-soft">Put off</h2>
                <ol aria-label="Put off" className="border-t">
                  {off.map((f) => (
                    <Finding key={f.ids[0]} finding={f} />
                  ))}
                </ol>
              </section>
            )}
          </div>
          <aside className="space-y-8 self-start text-small">
            <Watching view={view} mayChange={may("work")} />
            {may("work") && <Tellings />}
            <section>
              <h2 className="mb-1 text-lead font-semibold">Over time</h2>
              <ul className="space-y-1">
                <li>
                  <Link className="underline underline-offset-2" to={`/sites/${site.id}/timeline`}>
                    Time line of the site, and how much was up
                  </Link>
                </li>
                <li>
                  <Link className="underline underline-offset-2" to={`/sites/${site.id}/agreed`}>
                    What was agreed on, and when
                  </Link>
                </li>
              </ul>
            </section>
          </aside>
        </div>
      </div>
    </div>
  );
}

type View = NonNullable<ReturnType<typeof useDrifts>["data"]>;

/** How the watch goes, and what it costs. */
function Watching({ view, mayChange }: { view: View; mayChange: boolean }) {
  const { site } = useFrame();
  const [changing, setChanging] = useState(false);
  const look = useLookNow(site.id);
  const { rule, watch } = view;
  const mends = (rule.mends ?? []).length > 0;
  return (
    <section>
      <h2 className="mb-1 text-lead font-semibold">The watch</h2>
      <p>{roundsInWords(rule)}</p>
      {rule.on && (
        <dl className="mt-2 grid grid-cols-[auto_1fr] gap-x-3 gap-y-0.5">
          <dt className="text-soft">Last look</dt>
          <dd>{watch.last ? ago(watch.last) : "none yet"}</dd>
          <dt className="text-soft">Looked at</dt>
          <dd className="num">
            {watch.things - watch.never} of {watch.things}
          </dd>
          {watch.late > 0 && (
            <>
              <dt className="text-stuck">Not looked</dt>
              <dd className="num">{watch.late} for more than two rounds: a worker is away or busy</dd>
            </>
          )}
          <dt className="text-soft">One round</dt>
          <dd className="num">
            {watch.requests.toLocaleString()} requests, {Math.round(watch.bytes / 1000).toLocaleString()} kB,{" "}
            {watch.sessions.toLocaleString()} connections
          </dd>
          {mends && (
            <>
              <dt className="text-soft">By itself</dt>
              <dd>
                {[rule.mends?.includes("slot") && "puts cameras back into slots", rule.mends?.includes("settings") && "puts settings back"]
                  .filter(Boolean)
                  .join(", ")}
                , in the name of {view.by ?? "nobody"}
              </dd>
            </>
          )}
        </dl>
      )}
      {mayChange && view.agreed && (
        <div className="mt-3 flex flex-wrap gap-2">
          {rule.on && (
            <Button disabled={look.isPending} onClick={() => look.mutate(undefined)}>
              Look now
            </Button>
          )}
          <Button look={rule.on ? "quiet" : "next"} onClick={() => setChanging(true)}>
            {rule.on ? "Change" : "Watch this site"}
          </Button>
        </div>
      )}
      {changing && <RoundsSheet site={site.id} rule={rule} onClose={() => setChanging(false)} />}
    </section>
  );
}
