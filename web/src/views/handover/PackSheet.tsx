import { useState } from "react";
import type { Handover, LabelSheet } from "@/api/client";
import { useMakeHandover } from "@/api/handover";
import { useMay } from "@/api/queries";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Choice } from "@/parts/Choice";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";

type Seal = "none" | "passphrase" | "keys";

/** Makes a version of the pack: in which language, on which paper, with which labels, and to whom the sign-ins are sealed. */
export function PackSheet({ site, view, onClose }: { site: string; view: Handover; onClose: () => void }) {
  const may = useMay();
  const [language, setLanguage] = useState(view.versions[0]?.language ?? "en");
  const [size, setSize] = useState<"A4" | "Letter">("A4");
  const [labels, setLabels] = useState("");
  const [own, setOwn] = useState<LabelSheet>({ ...view.label_sheets[0]!, name: "own" });
  const [seal, setSeal] = useState<Seal>("none");
  const [passphrase, setPassphrase] = useState("");
  const [recipients, setRecipients] = useState("");
  const make = useMakeHandover(site);
  const sheet = labels === "own" ? own : view.label_sheets.find((s) => s.name === labels);
  return (
    <Sheet title="Make a version of the pack" open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-4"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(
            {
              language,
              size,
              labels: sheet,
              passphrase: seal === "passphrase" ? passphrase : undefined,
              recipients: seal === "keys" ? recipients : undefined,
              base: location.origin,
            },
            { onSuccess: onClose },
          );
        }}
      >
        {!view.ready && (
          <p className="border-l-4 border-brass bg-well px-3 py-2 text-small">
            The site is not ready. The pack says so: what is open stands in its papers.
          </p>
        )}
        <Line label="Language">
          <Choice label="Language" value={language} onChange={setLanguage} options={view.languages.map((l) => [l.tag, l.name] as const)} />
        </Line>
        <Line label="Paper">
          <Choice
            label="Paper"
            value={size}
            onChange={setSize}
            options={[
              ["A4", "A4"],
              ["Letter", "Letter"],
            ]}
          />
        </Line>
        <label className="block">
          <span className="mb-1 block text-small text-soft">Labels to stick on the cameras</span>
          <select
            name="labels"
            value={labels}
            onChange={(e) => setLabels(e.target.value)}
            className="h-9 w-full rounded-md border bg-sheet px-2.5"
          >
            <option value="">None</option>
            {view.label_sheets.map((s) => (
              <option key={s.name} value={s.name}>
                {s.name}
              </option>
            ))}
            <option value="own">A size of your own</option>
          </select>
        </label>
        {labels === "own" && <OwnLabels sheet={own} onChange={setOwn} />}
        {may("reveal") && (
          <>
            <Line label="Sign-ins">
              <Choice
                label="Sign-ins"
                value={seal}
                onChange={setSeal}
                options={[
                  ["none", "Left out"],
                  ["passphrase", "Passphrase"],
                  ["keys", "Public keys"],
                ]}
              />
            </Line>
            {seal === "passphrase" && (
              <Field
                label="Passphrase, at least 12 characters"
                hint="Tell it to whoever takes over by another way than the pack. It is kept nowhere."
                name="passphrase"
                type="password"
                autoComplete="new-password"
                value={passphrase}
                onChange={(e) => setPassphrase(e.target.value)}
              />
            )}
            {seal === "keys" && (
              <label className="block">
                <span className="mb-1 block text-small text-soft">Public keys of age, one a line</span>
                <textarea
                  name="recipients"
                  rows={3}
                  spellCheck={false}
                  placeholder="age1…"
                  value={recipients}
                  onChange={(e) => setRecipients(e.target.value)}
                  className="mono w-full rounded-md border bg-sheet p-2.5"
                />
              </label>
            )}
          </>
        )}
        <Foot error={make.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button
            look="next"
            type="submit"
            disabled={make.isPending || (seal === "passphrase" && passphrase.length < 12) || (seal === "keys" && !recipients.trim())}
          >
            Make it
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}

function Line({ label, children }: { label: string; children: React.ReactNode }) {
  return (
    <div className="flex flex-wrap items-center justify-between gap-2">
      <span className="text-small text-soft">{label}</span>
      {children}
    </div>
  );
}

const measures = [
  ["columns", "Columns"],
  ["rows", "Rows"],
  ["width_mm", "Width, mm"],
  ["height_mm", "Height, mm"],
  ["left_mm", "Left margin, mm"],
  ["top_mm", "Top margin, mm"],
  ["gap_x_mm", "Gap across, mm"],
  ["gap_y_mm", "Gap down, mm"],
] as const;

/** A sheet of labels of one's own. */
function OwnLabels({ sheet, onChange }: { sheet: LabelSheet; onChange: (s: LabelSheet) => void }) {
  return (
    <div className="grid grid-cols-2 gap-3 sm:grid-cols-4">
      {measures.map(([key, label]) => (
        <Field
          key={key}
          label={label}
          name={key}
          type="number"
          step="any"
          min={0}
          value={sheet[key]}
          onChange={(e) => onChange({ ...sheet, [key]: Number(e.target.value) })}
        />
      ))}
    </div>
  );
}
