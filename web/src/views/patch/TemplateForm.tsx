import { useEffect, useState } from "react";
import { Problem, type Target } from "@/api/client";
import { useTemplateExamples } from "@/api/queries";
import { seenIn, seenOf, usePreviewList, useSetTarget } from "@/api/targets";
import { Both } from "@/parts/Both";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { Copy } from "@/parts/Copy";
import { Trouble } from "@/parts/Trouble";
import { useDelayed } from "@/parts/useDelayed";

/** A template and, beside it while it is typed, what it makes of the cameras on the target. */
export function TemplateForm({ site, target }: { site: string; target: Target }) {
  const [text, setText] = useState(target.settings.text ?? "");
  const [each, setEach] = useState(target.settings.each === "yes");
  const [passwords, setPasswords] = useState(target.settings.passwords === "yes");
  const [file, setFile] = useState(target.settings.file ?? "cameras.txt");
  const examples = useTemplateExamples();
  const set = useSetTarget(site);
  const preview = usePreviewList(site);
  const typed = useDelayed(text, 300);
  const { mutate } = preview;
  const on = target.wanted.join();
  // biome-ignore lint/correctness/useExhaustiveDependencies: what stands on the target changes what it makes
  useEffect(() => {
    mutate({ target: target.id, text: typed, each, passwords });
  }, [mutate, target.id, typed, each, passwords, on]);
  const kept =
    target.settings.text === text &&
    (target.settings.each === "yes") === each &&
    (target.settings.passwords === "yes") === passwords &&
    target.settings.file === file;
  const out = preview.data;
  const [seen, setSeen] = useState(seenOf(target));
  const settings = { text, each: each ? "yes" : "no", passwords: passwords ? "yes" : "no", file };
  const keep = (was = seen) => {
    const { name, shared, intake } = target;
    const body = { target: target.id, name, kind: "template" as const, shared, intake, settings, was };
    set.mutate(body, { onSuccess: () => setSeen({ ...was, settings }) });
  };
  const other = set.error instanceof Problem ? set.error.changed : undefined;
  return (
    <section aria-label="Template" className="space-y-2">
      <div className="flex flex-wrap items-center gap-2">
        <label className="flex items-center gap-2 text-small text-soft">
          Begin with
          <select
            className="h-8 rounded-md border bg-sheet px-2 text-ink"
            value=""
            onChange={(e) => {
              const x = examples.data?.find((x) => x.name === e.target.value);
              if (!x) return;
              setText(x.text);
              setEach(x.each);
              setPasswords(x.passwords);
              setFile(x.file);
            }}
          >
            <option value="">an example</option>
            {(examples.data ?? []).map((x) => (
              <option key={x.name}>{x.name}</option>
            ))}
          </select>
        </label>
        <span className="flex items-center gap-2 text-small">
          <Check label="Once for each camera" checked={each} onChange={() => setEach(!each)} /> once for each camera
        </span>
        <span className="flex items-center gap-2 text-small">
          <Check label="May hold passwords" checked={passwords} onChange={() => setPasswords(!passwords)} /> may hold passwords
        </span>
        <label className="flex items-center gap-2 text-small text-soft">
          File
          <input
            className="mono h-8 w-40 rounded-md border bg-sheet px-2 text-ink"
            value={file}
            onChange={(e) => setFile(e.target.value)}
          />
        </label>
        <span className="grow" />
        <Button look={kept ? "plain" : "next"} disabled={kept || set.isPending || !!out?.problem} onClick={() => keep()}>
          Keep the template
        </Button>
      </div>
      <Trouble error={(other ? null : set.error) ?? preview.error} />
      {other && (
        <Both
          changed={other}
          mine={settings}
          onTheirs={() => {
            setText(other.now.text ?? "");
            setEach(other.now.each === "yes");
            setPasswords(other.now.passwords === "yes");
            setFile(other.now.file ?? "");
            setSeen(seenIn(other.now));
            set.reset();
          }}
          onMine={() => keep(seenIn(other.now))}
        />
      )}
      <div className="grid gap-3 lg:grid-cols-2">
        <div>
          <label htmlFor="template-text" className="mb-1 block text-small text-soft">
            Template
          </label>
          <textarea
            id="template-text"
            spellCheck={false}
            className={`mono h-72 w-full resize-y rounded-md border bg-sheet p-2 ${out?.problem ? "border-stuck" : ""}`}
            value={text}
            onChange={(e) => setText(e.target.value)}
            aria-describedby="template-problem"
          />
          <p id="template-problem" role="status" className="min-h-5 text-small text-stuck">
            {out?.problem ? `${out.line ? `Line ${out.line}: ` : ""}${out.problem}` : ""}
          </p>
        </div>
        <div>
          <p className="mb-1 flex items-center gap-2 text-small text-soft">
            What it makes of {out?.cameras ?? 0} {out?.cameras === 1 ? "camera" : "cameras"}
            {passwords && <span>(passwords are dots here)</span>}
            <span className="grow" />
            {kept && (
              <>
                <Copy label="Copy it" text={() => fetch(`/api/sites/${site}/targets/${target.id}/file`).then((r) => r.text())} />
                <a className="underline" href={`/api/sites/${site}/targets/${target.id}/file`} download>
                  Download
                </a>
              </>
            )}
          </p>
          <pre tabIndex={0} role="region" className="mono h-72 overflow-auto rounded-md border bg-well p-2" aria-label="Preview">
            {out?.text}
          </pre>
        </div>
      </div>
    </section>
  );
}
