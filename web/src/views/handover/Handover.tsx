import { Download, PenLine } from "lucide-react";
import { useState } from "react";
import type { Handover as View, HandoverVersion } from "@/api/client";
import { packFile, packZip, useHandover } from "@/api/handover";
import { useMay } from "@/api/queries";
import { Button } from "@/parts/Button";
import { SignSheet } from "@/forms/SignSheet";
import { Trouble } from "@/parts/Trouble";
import { useFrame } from "@/parts/useFrame";
import { ChangesSheet } from "./ChangesSheet";
import { Checklist } from "./Checklist";
import { FirmSheet } from "./FirmSheet";
import { Opened } from "./Opened";
import { PackSheet } from "./PackSheet";
import { Progress } from "./Progress";
import { ReadyFinding } from "./ReadyFinding";
import { readyWords } from "./words";

/** Whether the site can be handed over, with the button that mends each thing that stands in the way; and the packs that were made. */
export function Handover() {
  const { site } = useFrame();
  const handover = useHandover(site.id);
  if (handover.error) return <Trouble error={handover.error} />;
  const view = handover.data;
  if (!view) return null;
  const open = view.findings.filter((f) => f.things.length > 0);
  const waived = view.findings.filter((f) => (f.waived ?? []).length > 0);
  return (
    <div className="h-full overflow-auto">
      <div className="mx-auto max-w-6xl p-4 sm:p-8">
        <h1 className="mb-1 text-xl font-semibold">Handover</h1>
        <p role="status" data-ready={view.ready} className={`mb-5 text-lg ${view.ready ? "text-open" : ""}`}>
          {readyWords(view)}
        </p>
        <Opened />
        <div className="grid gap-x-10 gap-y-8 lg:grid-cols-[1fr_21rem]">
          <div className="min-w-0 space-y-8">
            {open.length > 0 && (
              <section aria-label="To mend or to waive">
                <ol className="border-t">
                  {open.map((f, i) => (
                    <ReadyFinding key={f.cause} finding={f} first={i === 0} />
                  ))}
                </ol>
              </section>
            )}
            {waived.length > 0 && (
              <section aria-label="Waived">
                <h2 className="mb-1 text-lead font-semibold">Waived</h2>
                <ol className="border-t">
                  {waived.map((f) => (
                    <ReadyFinding key={f.cause} finding={f} waived />
                  ))}
                </ol>
              </section>
            )}
            <Checklist list={view.checklist} />
            <Progress list={view.progress} />
          </div>
          <Versions view={view} />
        </div>
      </div>
    </div>
  );
}

/** The versions of the pack, and the button that makes another. */
function Versions({ view }: { view: View }) {
  const { site } = useFrame();
  const may = useMay();
  const [making, setMaking] = useState(false);
  const [firm, setFirm] = useState(false);
  return (
    <aside className="self-start max-lg:order-first">
      <h2 className="mb-1 text-lead font-semibold">The pack</h2>
      <p className="mb-3 text-small text-soft">
        Papers for the customer, tables and data for whoever looks after the site next. A version stays as it was made.
      </p>
      <div className="flex flex-col items-start gap-2">
        {may("work") && (
          <Button look={view.ready ? "next" : "plain"} onClick={() => setMaking(true)}>
            Make a version
          </Button>
        )}
        {may("arrange") && (
          <Button look="quiet" className="-ml-3" onClick={() => setFirm(true)}>
            {view.firm.name || "Your firm’s name and mark"}
          </Button>
        )}
      </div>
      <ol aria-label="Versions" className="mt-4 border-t empty:hidden">
        {view.versions.map((v, i) => (
          <Version key={v.id} version={v} before={view.versions[i + 1]} newest={i === 0} />
        ))}
      </ol>
      {making && <PackSheet site={site.id} view={view} onClose={() => setMaking(false)} />}
      {firm && <FirmSheet site={site.id} firm={view.firm} onClose={() => setFirm(false)} />}
    </aside>
  );
}

const link = "inline-flex min-h-7 items-center gap-1 underline underline-offset-2 hover:text-ink";

function Version({ version: v, before, newest }: { version: HandoverVersion; before?: HandoverVersion; newest: boolean }) {
  const { site } = useFrame();
  const [signing, setSigning] = useState(false);
  const [comparing, setComparing] = useState(false);
  return (
    <li data-version={v.number} className="border-b py-3">
      <p>
        <span className="font-semibold">Version {v.number}</span>{" "}
        <span className="text-small text-soft">
          {new Date(v.at).toLocaleString()} · {v.by}
        </span>
      </p>
      {v.failed && <p className="text-stuck">It could not be made. {v.failed}</p>}
      {!v.made && !v.failed && <p className="text-soft">It is being made.</p>}
      {v.made && (
        <>
          <p className="flex flex-wrap gap-x-4 text-small">
            <a className={link} href={packFile(site.id, v.id, "handover.pdf")} target="_blank" rel="noreferrer">
              Papers
            </a>
            {v.files.some((f) => f.path === "labels.pdf") && (
              <a className={link} href={packFile(site.id, v.id, "labels.pdf")} target="_blank" rel="noreferrer">
                Labels
              </a>
            )}
            <a className={link} href={packFile(site.id, v.id, "handover.xlsx")}>
              Tables
            </a>
            <a className={link} href={packZip(site.id, v.id)}>
              <Download size={14} /> All files
            </a>
            <button type="button" className={link} onClick={() => setComparing(true)}>
              What changed
            </button>
          </p>
          <p className="text-small text-soft">
            {v.sealed ? `${v.sealed.sign_ins} sign-ins sealed` : "Without sign-ins"}
            {v.baseline ? ` · agreed state “${v.baseline.name}”` : ""}
          </p>
          {v.sign_off ? (
            <p className="text-small text-open">
              ✓ signed by {v.sign_off.name}, {new Date(v.sign_off.at).toLocaleDateString()}
            </p>
          ) : (
            newest && (
              <Button className="mt-1" onClick={() => setSigning(true)}>
                <PenLine size={14} /> Sign it here
              </Button>
            )
          )}
        </>
      )}
      {signing && <SignSheet site={site.id} version={v} onClose={() => setSigning(false)} />}
      {comparing && <ChangesSheet site={site.id} version={v} before={before} newest={newest} onClose={() => setComparing(false)} />}
    </li>
  );
}
