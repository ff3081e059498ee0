import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import type { TimeLine as View } from "@/api/client";
import { useAvailability, useTimeLine } from "@/api/drifts";
import { useTargets } from "@/api/queries";
import { Trouble } from "@/parts/Trouble";
import { useFrame } from "@/parts/useFrame";
import { MeasurePlot } from "./MeasurePlot";
import { Band } from "./Band";
import { measureName, percent } from "./timewords";

const lengths = { "1": "1 hour", "24": "1 day", "168": "1 week", "744": "1 month", "8784": "1 year" };

/** What was seen of a camera, a target or the site over time: when it was up, what it measured, what has changed and what was done. */
export function TimeLinePage() {
  const { site, devices } = useFrame();
  const { thing } = useParams();
  const [params, setParams] = useSearchParams();
  const hours = params.get("hours") ?? "24";
  const view = useTimeLine(site.id, thing, Number(hours));
  const targets = useTargets(site.id);
  const name = devices.find((d) => d.id === thing)?.name ?? targets.data?.find((t) => t.id === thing)?.name ?? site.name;
  return (
    <div className="relative h-full overflow-auto">
      <div className="mx-auto max-w-5xl p-4 sm:p-8">
        <p className="mb-1 text-small text-soft">
          <Link className="underline underline-offset-2" to={`/sites/${site.id}/drift`}>
            Drift
          </Link>
          {thing && (
            <>
              {" · "}
              <Link className="underline underline-offset-2" to={`/sites/${site.id}?device=${thing}`}>
                on the bench
              </Link>
            </>
          )}
        </p>
        <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-2">
          <h1 className="text-xl font-semibold break-words">{name}</h1>
          <span className="grow" />
          <div role="radiogroup" aria-label="How far back" className="flex overflow-hidden rounded-md border">
            {Object.entries(lengths).map(([h, label]) => (
              <button
                key={h}
                type="button"
                role="radio"
                aria-checked={hours === h}
                onClick={() => setParams({ hours: h }, { replace: true })}
                className={`h-8 border-l px-2.5 first:border-l-0 ${hours === h ? "bg-ink text-paper" : "bg-sheet hover:bg-well"}`}
              >
                {label}
              </button>
            ))}
          </div>
        </div>
        <Trouble error={view.error} />
        {view.data && <Seen view={view.data} thing={!!thing} />}
        {!thing && <Availability />}
      </div>
    </div>
  );
}

function Seen({ view, thing }: { view: View; thing: boolean }) {
  const order = (what: string) => ["rate main", "bitrate main", "loss main", "key frames main", "skew"].indexOf(what);
  const measures = Object.entries(view.measures).sort(([a], [b]) => ((order(a) + 9) % 9) - ((order(b) + 9) % 9) || a.localeCompare(b));
  return (
    <>
      <p className="mb-3 text-lg">
        {view.up === undefined ? "Nobody has looked in this time." : `Up ${percent(view.up)} of the time that was looked at`}
        {view.up !== undefined && <span className="text-soft"> · looked at {percent(view.looked)} of it</span>}
      </p>
      {thing && <Band view={view} />}
      {measures.map(([what, points]) => (
        <section key={what} className="mt-5">
          <h2 className="mb-1 text-small text-soft">{measureName(what)}</h2>
          <MeasurePlot points={points} what={what} from={view.from} to={view.to} moments={view.moments} />
        </section>
      ))}
      <Moments view={view} />
    </>
  );
}

/** What has changed and what was done, the newest first. */
function Moments({ view }: { view: View }) {
  const [all, setAll] = useState(false);
  const shown = all ? view.moments : view.moments.slice(0, 30);
  const at = (t: string) => new Date(t).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" });
  return (
    <section className="mt-6">
      <h2 className="mb-1 font-semibold">What happened</h2>
      {view.moments.length === 0 && <p className="text-soft">Nothing has changed, and nobody has done anything.</p>}
      <ol className="divide-y border-y empty:hidden">
        {shown.map((m) => (
          <li key={`${m.at} ${m.text}`} className="grid gap-x-4 py-1.5 sm:grid-cols-[11rem_1fr]">
            <time className="num text-soft" dateTime={m.at}>
              {at(m.at)}
            </time>
            <span className="break-words">
              {m.kind === "drift" ? <strong className="font-semibold">{m.text}</strong> : `${m.by} ${m.text}`}
              {m.until && <span className="text-soft"> · over {at(m.until)}</span>}
            </span>
          </li>
        ))}
      </ol>
      {!all && view.moments.length > 30 && (
        <button type="button" className="mt-2 underline underline-offset-2" onClick={() => setAll(true)}>
          Show all {view.moments.length}
        </button>
      )}
    </section>
  );
}

/** How much of a month each camera and target was up. */
function Availability() {
  const { site } = useFrame();
  const [month, setMonth] = useState(() => new Date().toISOString().slice(0, 7));
  const list = useAvailability(site.id, month);
  return (
    <section className="mt-8">
      <div className="mb-2 flex flex-wrap items-center gap-3">
        <h2 className="font-semibold">Up in a month</h2>
        <input
          type="month"
          aria-label="Month"
          value={month}
          max={new Date().toISOString().slice(0, 7)}
          onChange={(e) => e.target.value && setMonth(e.target.value)}
          className="h-8 rounded-md border bg-sheet px-2"
        />
      </div>
      <Trouble error={list.error} />
      {list.data?.length === 0 && <p className="text-soft">Nobody has looked at this site in that month.</p>}
      <ul className="divide-y border-y empty:hidden">
        {(list.data ?? []).map((a) => (
          <li key={a.thing} className="grid grid-cols-[1fr_5rem_8rem] items-center gap-x-4 py-1.5">
            <Link className="truncate underline decoration-1 underline-offset-2" to={`/sites/${site.id}/timeline/${a.thing}?hours=744`}>
              {a.name}
            </Link>
            <span className="num text-right">{a.up === undefined ? "–" : percent(a.up)}</span>
            <span className="num text-right text-small text-soft">looked at {percent(a.looked)}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
