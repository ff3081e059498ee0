import { useState } from "react";
import { base64 } from "@/api/base64";
import { useAddSitePlan } from "@/api/siteplans";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { FileButton } from "@/parts/FileButton";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { FileProblem, pagesOf, pictureOf } from "./readPicture";

/** Brings a picture of a building: a PNG, a JPEG, or one page of a PDF. */
export function AddPlanSheet({ site, onClose, onAdded }: { site: string; onClose: () => void; onAdded?: (id: string) => void }) {
  const [name, setName] = useState("");
  const [file, setFile] = useState<{ file: File; pages: number } | null>(null);
  const [page, setPage] = useState("1");
  const [problem, setProblem] = useState<Error | null>(null);
  const [drawing, setDrawing] = useState(false);
  const add = useAddSitePlan(site);
  const choose = async (chosen: File) => {
    setProblem(null);
    try {
      setFile({ file: chosen, pages: await pagesOf(chosen) });
      if (!name) setName(chosen.name.replace(/\.[^.]*$/, ""));
    } catch (e) {
      setFile(null);
      setProblem(e as Error);
    }
  };
  const send = async () => {
    if (!file) return;
    setProblem(null);
    setDrawing(true);
    try {
      const n = Number(page);
      if (!(n >= 1 && n <= file.pages)) throw new FileProblem(`The PDF has the pages 1 to ${file.pages}.`);
      const content = await base64(await pictureOf(file.file, n));
      add.mutate(
        { name: name.trim(), content },
        {
          onSuccess: (out) => {
            onAdded?.(out.id);
            onClose();
          },
        },
      );
    } catch (e) {
      setProblem(e as Error);
    } finally {
      setDrawing(false);
    }
  };
  return (
    <Sheet title="Bring a site plan" open onOpenChange={onClose}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          void send();
        }}
      >
        <p className="text-soft">A drawing or a photograph of the building, or of one floor: PNG, JPEG, or a page of a PDF.</p>
        <Field label="Name" name="name" placeholder="Ground floor" value={name} onChange={(e) => setName(e.target.value)} />
        <div className="flex items-center gap-3">
          <FileButton
            name="Site plan file"
            accept="image/png,image/jpeg,application/pdf,.png,.jpg,.jpeg,.pdf"
            onFile={(f) => void choose(f)}
          >
            Choose the file
          </FileButton>
          <span className="min-w-0 truncate">{file?.file.name ?? <span className="text-soft">none yet</span>}</span>
        </div>
        {file && file.pages > 1 && (
          <Field
            label={`Which of its ${file.pages} pages`}
            name="page"
            inputMode="numeric"
            className="w-40"
            value={page}
            onChange={(e) => setPage(e.target.value)}
          />
        )}
        <Foot error={problem ?? add.error}>
          <Button onClick={onClose}>Leave it</Button>
          <Button look="next" type="submit" disabled={!file || !name.trim() || drawing || add.isPending}>
            {drawing ? "Drawing …" : "Bring it"}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
