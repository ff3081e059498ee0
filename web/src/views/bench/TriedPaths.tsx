import type { Device } from "@/api/client";

const means: Record<number, string> = {
  200: "is there",
  401: "is there, wants a sign-in",
  404: "not there",
  400: "not understood",
  403: "forbidden",
};

/** The paths that were tried on a camera that tells none, the last ones first. */
export function TriedPaths({ tried: l }: { tried: NonNullable<Device["tried_paths"]> }) {
  return (
    <section className="border-t px-4 py-3" aria-label="Paths tried">
      <h3 className="mb-1 text-small text-soft">
        No device service to ask: {l.tried.length} {l.tried.length === 1 ? "path was" : "paths were"} tried
        {l.manner === "any path"
          ? "; the server sends its picture for any path"
          : `, on a server that judges the ${l.manner.replace(" first", "")} first`}
      </h3>
      {l.shape && (
        <p className="mb-1">
          Recipe {l.recipe}: <span className="mono">{l.shape}</span>
        </p>
      )}
      <ol className="max-h-40 overflow-auto text-small">
        {[...l.tried].reverse().map((t) => (
          <li key={t.path} className="flex gap-2 py-0.5">
            <span className={`mono min-w-0 grow truncate ${t.status < 300 || t.status === 401 ? "" : "text-soft"}`}>{t.path}</span>
            <span className={`shrink-0 ${t.status < 300 ? "text-open" : "text-soft"}`}>
              {t.status} {means[t.status] ?? ""}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}
