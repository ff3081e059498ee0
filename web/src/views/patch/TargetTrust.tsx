import { useState } from "react";
import type { Target } from "@/api/client";
import { useDisagreeForTarget, useTakeTargetCertificate } from "@/api/targets";
import { secretNames, TargetAgreeSheet } from "@/forms/TargetAgreeSheet";
import { Button } from "@/parts/Button";
import { waitFor } from "@/parts/latches";
import { ago } from "@/parts/measures";
import { useFrame } from "@/parts/useFrame";

/** What may go to a target so that it can be read, by whose word, with the way to take it back; and whose certificate it shows. */
export function TargetTrust({ target: t }: { target: Target }) {
  const { site, devices } = useFrame();
  const [asking, setAsking] = useState(false);
  const back = useDisagreeForTarget(site.id);
  const take = useTakeTargetCertificate(site.id);
  const waiting = waitFor(devices, t.id);
  if (!t.wants && t.agreements.length === 0 && !t.certificate) return null;
  return (
    <section aria-label="What may go to it" className="space-y-2">
      {t.wants && (
        <div className="flex flex-wrap items-center gap-3 border-l-4 border-stuck bg-sheet px-3 py-2">
          <p className="min-w-64 grow">
            <span className="font-semibold text-stuck">Something was not sent to it.</span> Nobody has agreed yet that it may be read on the
            way, or by who answers there now.
          </p>
          <Button look="next" onClick={() => setAsking(true)}>
            Look at what it is
          </Button>
        </div>
      )}
      {t.agreements.map((a) => (
        <p key={a.secret} className="flex flex-wrap items-center gap-3 border-y py-1.5">
          <span className="min-w-64 grow">
            <span className="font-semibold">{secretNames[a.secret]}</span> may go to it readable: {a.person || "somebody"} agreed{" "}
            {ago(a.given_at)}
            {a.to ? "" : ", for whoever answers there first"}.
          </span>
          <Button className="h-7" disabled={back.isPending} onClick={() => back.mutate({ target: t.id, secret: a.secret })}>
            Take it back
          </Button>
        </p>
      ))}
      {t.certificate && (
        <p className="flex flex-wrap items-center gap-3 border-y py-1.5">
          <span className="min-w-64 grow">
            Known by its certificate <span className="mono break-all">SHA-256 {t.certificate}</span>
            {t.certificate_taken ? ", which somebody has looked at and taken." : ". Nobody has said yet that it is its own."}
          </span>
          {!t.certificate_taken && (
            <Button
              className="h-7"
              disabled={take.isPending}
              onClick={() => take.mutate({ target: t.id, sha256: t.certificate ?? "" })}
              title="Compare it with what the target shows on its own page first"
            >
              It is its own
            </Button>
          )}
        </p>
      )}
      {asking && <TargetAgreeSheet site={site.id} target={t} devices={waiting} onClose={() => setAsking(false)} />}
    </section>
  );
}
