import { Download, Plus, Trash2 } from "lucide-react";
import { useState } from "react";
import { useDropBook } from "@/api/actions";
import { usePathBooks } from "@/api/queries";
import { BookSheet } from "./BookSheet";
import { LearnSheet } from "./LearnSheet";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { Trouble } from "@/parts/Trouble";
import { useFrame } from "@/parts/useFrame";
import { Sure } from "@/parts/Sure";

/** How each kind of device shapes its stream URLs: books of recipes, one's own before those of the product. */
export function PathBook() {
  const { paste } = useFrame();
  const books = usePathBooks();
  const [bringing, setBringing] = useState(false);
  const [learning, setLearning] = useState(false);
  const remove = useDropBook();
  return (
    <div className="h-full overflow-auto">
      <div className="mx-auto max-w-5xl p-4 sm:p-8">
        <div className="mb-1 flex flex-wrap items-center gap-2">
          <h1 className="grow text-xl font-semibold">Path book</h1>
          <Button onClick={() => setBringing(true)}>
            <Plus size={16} /> Bring a book
          </Button>
          <Button onClick={() => setLearning(true)}>Learn a command</Button>
          <Button look="next" onClick={paste}>
            Learn from a URL
          </Button>
        </div>
        <p className="mb-5 max-w-2xl text-soft">
          How each kind of device shapes its stream URLs. One URL and its recipe give all siblings; a camera without a device service is
          asked for the paths of the recipes that may fit it.
        </p>
        <Trouble error={books.error} />
        {(books.data ?? []).map((b) => (
          <section key={b.id ?? b.name} aria-label={b.name} className="mb-7">
            <div className="flex items-center gap-2 border-b pb-1">
              <h2 className="font-semibold">{b.name}</h2>
              <span className="num text-soft">
                {b.recipes.length} {b.recipes.length === 1 ? "recipe" : "recipes"}
                {b.commands.length > 0 && `, ${b.commands.length} ${b.commands.length === 1 ? "command" : "commands"}`}
                {!b.id && ", comes with the product"}
              </span>
              <span className="grow" />
              {b.id && (
                <>
                  <a href={`/api/path-books/${b.id}/file`} className="inline-flex items-center gap-1 text-small underline hover:text-ink">
                    <Download size={14} /> as a file
                  </a>
                  <Sure
                    ask={`Remove the book “${b.name}”?`}
                    more={
                      `Its ${b.recipes.length} recipes are tried no more. Streams that were found by them stay. ` +
                      "Take it as a file first if you may want it again."
                    }
                    yes="Remove it"
                    onYes={() => remove.mutate(b.id!)}
                  >
                    <Button look="quiet" className="px-2" aria-label={`Remove the book ${b.name}`} title="Remove the book">
                      <Trash2 size={14} />
                    </Button>
                  </Sure>
                </>
              )}
            </div>
            {b.note && <p className="pt-1 text-small text-soft">{b.note}</p>}
            <ul>
              {b.recipes.map((r) => (
                <li key={r.name} data-recipe={r.name} className="grid grid-cols-1 gap-x-6 gap-y-0.5 border-b py-2 md:grid-cols-[1.3fr_1fr]">
                  <div className="min-w-0">
                    <div className="flex items-center gap-2">
                      <Shape path={r.path} />
                      <Copy text={r.path} label="Copy" />
                    </div>
                    <div className="text-small text-soft">
                      {r.name}
                      {r.note && <>. {r.note}</>}
                    </div>
                  </div>
                  <div className="min-w-0 text-small">
                    <div className="mono truncate text-soft">{r.examples.join("  ")}</div>
                    <div className="text-soft">
                      {fits(r)} · {r.confidence}
                      {r.channels && " · channel in the path"}
                    </div>
                  </div>
                </li>
              ))}
              {b.commands.map((c) => (
                <li key={c.name} data-recipe={c.name} className="grid grid-cols-1 gap-x-6 gap-y-0.5 border-b py-2 md:grid-cols-[1.3fr_1fr]">
                  <div className="min-w-0">
                    <div>{c.name}</div>
                    <div className="text-small text-soft">{c.does}</div>
                  </div>
                  <div className="min-w-0 text-small text-soft">
                    a command for {c.maker} · sets {c.sets.join(", ")}
                    {c.restarts && " · the device restarts"}
                  </div>
                </li>
              ))}
            </ul>
          </section>
        ))}
      </div>
      <BookSheet open={bringing} onOpenChange={setBringing} />
      {learning && <LearnSheet onClose={() => setLearning(false)} />}
    </div>
  );
}

function fits(r: { maker?: string; model?: string; server?: string; realm?: string }) {
  const on = [
    r.maker && `maker ${r.maker}`,
    r.model && `model ${r.model}`,
    r.server && `server ${r.server}`,
    r.realm && `realm ${r.realm}`,
  ].filter(Boolean);
  return on.length ? `for ${on.join(", ")}` : "for any device";
}

/** A recipe with what changes in it set off from what does not. */
function Shape({ path }: { path: string }) {
  return (
    <span className="mono min-w-0 break-all">
      {path.split(/(\{[^{}]*\})/).map((part, i) =>
        part.startsWith("{") ? (
          // biome-ignore lint/suspicious/noArrayIndexKey: the parts of one path never move
          <span key={i} className="rounded-sm border border-hair bg-well px-0.5 font-semibold">
            {part}
          </span>
        ) : (
          part
        ),
      )}
    </span>
  );
}
