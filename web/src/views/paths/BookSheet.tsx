import { z } from "zod";
import { useBringBook } from "@/api/actions";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { useSchema } from "@/forms/useSchema";

const Schema = z.object({ yaml: z.string().trim().min(1, "Paste the book, or choose its file.") });

/** Takes a path book that somebody brings along: its recipes go to one's own, and none of those is overwritten. */
export function BookSheet({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  const form = useSchema(Schema, { yaml: "" });
  const add = useBringBook();
  const send = form.handleSubmit(({ yaml }) =>
    add.mutate(yaml, {
      onSuccess: (out) => {
        if (out.conflicts.length > 0) return;
        form.reset();
        onOpenChange(false);
      },
    }),
  );
  const take = async (file?: File) => file && form.setValue("yaml", await file.text(), { shouldValidate: true });
  return (
    <Sheet title="Bring a path book" open={open} onOpenChange={onOpenChange} wide>
      <form onSubmit={send}>
        <textarea
          {...form.register("yaml")}
          rows={10}
          spellCheck={false}
          aria-label="Path book"
          placeholder={
            "name: Works\nrecipes:\n  - name: Corvane cameras\n    path: /vista/ch{channel}/{tier:primary|secondary}\n    maker: corvane*"
          }
          className="mono w-full rounded-md border bg-paper p-2 text-small"
        />
        <label className="text-small text-soft">
          or a file: <input type="file" accept=".yaml,.yml" onChange={(e) => void take(e.target.files?.[0])} />
        </label>
        {form.formState.errors.yaml && <p className="text-small text-stuck">{form.formState.errors.yaml.message}</p>}
        {add.data && add.data.conflicts.length > 0 && (
          <div className="mt-2 border-l-4 border-stuck pl-3">
            <p>{add.data.conflicts.length} recipes of the same name differ; yours stayed:</p>
            <ul className="text-small">
              {add.data.conflicts.map((c) => (
                <li key={c.ours.name}>
                  {c.ours.name}: <span className="mono">{c.ours.path}</span>, not <span className="mono">{c.theirs.path}</span>
                </li>
              ))}
            </ul>
          </div>
        )}
        <Foot error={add.error}>
          <Button onClick={() => onOpenChange(false)}>Close</Button>
          <Button look="next" type="submit" disabled={add.isPending}>
            Add to the path book
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
