import type { TimeLine } from "@/api/client";

const looks = {
  up: "bg-open",
  changed: "bg-brass",
  down: "bg-stuck",
  not_looked: "bg-[repeating-linear-gradient(135deg,var(--hair)_0_2px,transparent_2px_6px)]",
} as const;
const words = { up: "up, as agreed", changed: "up, not as agreed", down: "did not answer", not_looked: "not looked" } as const;

/** When something was up, as a band over the time that is shown. Each state has its own height as well as its colour. */
export function Band({ view }: { view: TimeLine }) {
  const from = Date.parse(view.from);
  const all = Date.parse(view.to) - from;
  const heights = { up: "h-4", changed: "h-6", down: "h-8", not_looked: "h-4" };
  return (
    <figure>
      <div className="relative h-8" role="img" aria-label={spansInWords(view)}>
        {view.spans.map((s) => {
          const left = ((Date.parse(s.from) - from) / all) * 100;
          const width = ((Date.parse(s.to) - Date.parse(s.from)) / all) * 100;
          return (
            <span
              key={s.from}
              title={`${words[s.state]}, ${new Date(s.from).toLocaleString()} to ${new Date(s.to).toLocaleString()}`}
              className={`absolute bottom-0 ${heights[s.state]} ${looks[s.state]}`}
              style={{ left: `${left}%`, width: `max(2px, ${width}%)` }}
            />
          );
        })}
      </div>
      <figcaption className="mt-1 flex flex-wrap gap-x-4 text-small text-soft">
        <span className="num">{new Date(view.from).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" })}</span>
        <span className="grow" />
        {(Object.keys(words) as (keyof typeof words)[])
          .filter((w) => view.spans.some((s) => s.state === w))
          .map((w) => (
            <span key={w} className="flex items-center gap-1.5">
              <span aria-hidden className={`inline-block size-3 ${looks[w]}`} />
              {words[w]}
            </span>
          ))}
        <span className="grow" />
        <span>now</span>
      </figcaption>
    </figure>
  );
}

function spansInWords(view: TimeLine) {
  const times = view.spans.filter((s) => s.state === "down").length;
  return times === 0
    ? "It answered whenever it was looked at"
    : `It did not answer in ${times === 1 ? "one stretch" : `${times} stretches`}`;
}
