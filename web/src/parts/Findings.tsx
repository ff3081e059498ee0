import { useDismiss, useEndStorms, useMark, useWithdraw } from "@/api/actions";
import type { Device } from "@/api/client";
import { Button } from "./Button";
import { ago } from "./measures";
import { useFrame } from "./useFrame";

/** What should be acted on at a device beside its next step: somebody else who says that it is this one. */
export function Findings({ device: d }: { device: Device }) {
  const { site } = useFrame();
  const dismiss = useDismiss(site.id);
  return (d.findings ?? []).map((f) => (
    <section
      key={f.address ?? f.seen}
      aria-label="Finding"
      data-finding={f.cause}
      className="mx-4 mb-3 border-l-4 border-stuck bg-paper px-3 py-2.5"
    >
      <p className="font-semibold text-stuck">{f.address ? "Another device says that it is this one" : "A record cannot be read"}</p>
      <p className="mt-1">{f.summary}</p>
      <p className="mt-1 text-soft">{f.fix}</p>
      {f.seen && <p className="mt-1 text-small text-soft">Seen: {f.seen}</p>}
      {f.address && (
        <Button className="mt-2" disabled={dismiss.isPending} onClick={() => dismiss.mutate({ device: d.id, address: f.address! })}>
          Set it aside
        </Button>
      )}
    </section>
  ));
}

/** A nudge or a label that still stands on a camera, with the way to put back what was before. */
export function StillMarked({ device: d }: { device: Device }) {
  const { site } = useFrame();
  const mark = useMark(site.id);
  const m = d.marked;
  if (!m?.problem) return null;
  return (
    <section aria-label="Finding" data-finding="mark" className="mb-3 border-l-4 border-stuck bg-paper px-3 py-2.5">
      <p className="font-semibold text-stuck">{m.how === "label" ? "Its label still stands" : "It was nudged and is not back"}</p>
      <p className="mt-1">{m.problem}</p>
      <p className="mt-1 text-soft">{m.fix}</p>
      <Button className="mt-2" disabled={mark.isPending} onClick={() => mark.mutate({ devices: [d], how: m.how, back: true })}>
        Put it back
      </Button>
    </section>
  );
}

/** That a sign-in may go out readable, with the way to take it back. */
export function Agreed({ device: d }: { device: Device }) {
  const { site } = useFrame();
  const withdraw = useWithdraw(site.id);
  if (!d.agreed) return null;
  return (
    <section className="flex items-center gap-2 border-t px-4 py-3 text-small" aria-label="Agreed">
      <span className="grow">
        Its sign-in may be sent readable{d.agreed_tls ? " over TLS" : ""}: agreed {ago(d.agreed)}.
      </span>
      <Button className="h-7" disabled={withdraw.isPending} onClick={() => withdraw.mutate(d.id)}>
        Withdraw
      </Button>
    </section>
  );
}

/** Announcements that were not filed, since no wire has so many devices. */
export function Storms() {
  const { site, devices } = useFrame();
  const aside = useEndStorms(site.id);
  const invented = devices.filter((d) => site.storms.some((s) => s.address !== "" && s.address === d.address));
  if (site.storms.length === 0) return null;
  const dropped = site.storms.reduce((n, s) => n + s.dropped, 0);
  const where = site.storms.length === 1 && site.storms[0]!.address ? site.storms[0]!.address : `${site.storms.length} addresses`;
  return (
    <section
      aria-label="Finding"
      data-finding="storm"
      className="m-4 flex flex-wrap items-center gap-3 border-l-4 border-stuck bg-sheet px-3 py-2.5"
    >
      <p className="min-w-64 grow">
        <span className="font-semibold text-stuck">
          A storm of announcements from <span className="mono">{where}</span>.
        </span>{" "}
        {dropped.toLocaleString("en")} were not filed: no wire has so many devices at once. Something there is broken, or invents them. Last
        heard {ago(site.storms[0]!.last_at)}.
      </p>
      {invented.length > 0 && (
        <Button disabled={aside.isPending} onClick={() => aside.mutate(invented.map((d) => d.id))}>
          Forget the {invented.length} from there
        </Button>
      )}
      <Button disabled={aside.isPending} onClick={() => aside.mutate([])}>
        Set it aside
      </Button>
    </section>
  );
}
