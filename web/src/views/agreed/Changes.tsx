import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Baseline, DeviceChange } from "@/api/client";
import { Copy } from "@/parts/Copy";
import { useFrame } from "@/parts/useFrame";
import { asText, headline, type View } from "./words";

/** What differs between an agreed state and another one, device by device. children choose the other one. */
export function Changes({ view, since, other, children }: { view: View; since: Baseline; other?: Baseline; children: ReactNode }) {
  const { site } = useFrame();
  const of = (is: DeviceChange["is"]) => view.changes.filter((c) => c.is === is);
  const none = view.changes.length === 0;
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-x-2 gap-y-2 border-b pb-3 text-soft">
        <span className="break-words">
          From <strong className="text-ink">{since.name}</strong> to
        </span>
        {children}
        <span className="grow" />
        {!none && <Copy text={asText(view, since, other)} label="Copy as text" />}
      </div>
      <p role="status" className={`mb-4 border-l-4 bg-well px-3 py-2 text-lg ${none ? "border-open" : "border-brass"}`}>
        {headline(view)}
      </p>
      {of("changed").map((c) => (
        <article key={c.device} data-device={c.device} className="border-b py-3">
          <h2 className="mb-1 font-semibold">
            <Link to={`/sites/${site.id}?device=${c.device}`} className="underline decoration-1 underline-offset-2">
              {c.title}
            </Link>
          </h2>
          <dl className="space-y-1">
            {c.fields.map((f) => (
              <div key={`${f.field} ${f.subject}`} className="grid gap-x-4 sm:grid-cols-[11rem_1fr]">
                <dt className="text-soft">{f.words}</dt>
                <dd className="min-w-0 break-words">
                  <Value text={f.was} missing="not known then" old /> <span className="text-soft">→</span>{" "}
                  <Value text={f.is} missing="not known any more" />
                </dd>
              </div>
            ))}
          </dl>
        </article>
      ))}
      <Named title="Not there any more" list={of("gone")} />
      <Named title="New since then" list={of("new")} />
    </>
  );
}

function Value({ text, missing, old }: { text?: string; missing: string; old?: boolean }) {
  if (!text) return <span className="text-soft italic">{missing}</span>;
  return <span className={old ? "text-soft" : "font-semibold"}>{text}</span>;
}

function Named({ title, list }: { title: string; list: DeviceChange[] }) {
  if (list.length === 0) return null;
  return (
    <section className="border-b py-3">
      <h2 className="mb-1 font-semibold">{title}</h2>
      <ul>
        {list.map((c) => (
          <li key={c.device}>{c.title}</li>
        ))}
      </ul>
    </section>
  );
}
