import { ChevronLeft } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import type { Target } from "@/api/client";
import { useSetIntake } from "@/api/actions";
import { useIntakes, useTargetHistory, useTargets } from "@/api/queries";
import { useDeleteTarget, useFeedAddress, useLookAt } from "@/api/targets";
import { TargetSheet } from "./TargetSheet";
import { CopyTo } from "./CopyTo";
import { SlotCard } from "./SlotCard";
import { TemplateForm } from "./TemplateForm";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { countsOf, rowsOf } from "@/parts/patch";
import { ago, when } from "@/parts/measures";
import { Sure } from "@/parts/Sure";
import { Trouble } from "@/parts/Trouble";
import { useFrame } from "@/parts/useFrame";
import { TargetTrust } from "./TargetTrust";

/** One target: what it says of itself, its slots with what it shows, its settings, and what was said. */
export function TargetPage() {
  const { site, devices } = useFrame();
  const id = useParams().target!;
  const targets = useTargets(site.id);
  const t = targets.data?.find((x) => x.id === id);
  const go = useNavigate();
  const look = useLookAt(site.id);
  const drop = useDeleteTarget(site.id);
  const [changing, setChanging] = useState(false);
  if (targets.error) return <Trouble error={targets.error} />;
  if (!targets.data) return <p className="p-6 text-soft">Reading what is known of it …</p>;
  if (!t)
    return (
      <p className="p-6">
        This target is not there any more.{" "}
        <Link className="underline" to={`/sites/${site.id}/patch`}>
          Back to the patch bench
        </Link>
      </p>
    );
  const rows = rowsOf([t], devices).filter((r) => r.kind === "slot" && (r.device || r.slot?.token));
  const n = countsOf(t);
  const asked = t.kind !== "feed" && t.kind !== "template";
  const facts = [t.about?.maker, t.about?.model, t.is, t.address, t.addresses?.join(", ")].filter(Boolean).join(" · ");
  return (
    <div className="h-full overflow-auto">
      <div className="mx-auto max-w-6xl space-y-5 p-4">
        <div className="flex flex-wrap items-start gap-x-3 gap-y-2">
          <Link to={`/sites/${site.id}/patch`} aria-label="Back to the patch bench" className="rounded-sm p-1 text-soft hover:bg-well">
            <ChevronLeft size={18} />
          </Link>
          <div className="min-w-0 grow">
            <h1 className="text-lead font-semibold">{t.name}</h1>
            <p className="text-soft">
              {facts}
              {asked && ` · ${t.seen_at ? `asked ${ago(t.seen_at)}` : "not asked yet"}`}
            </p>
          </div>
          {asked && (
            <Button look={t.seen_at && !t.refused ? "plain" : "next"} onClick={() => look.mutate({ targets: [t.id], retry: t.refused })}>
              {t.refused ? "Try its sign-in again" : "Look at it again"}
            </Button>
          )}
          <CopyTo site={site.id} target={t} rows={rows} targets={targets.data} />
          {!t.device && t.own && <Button onClick={() => setChanging(true)}>Change it</Button>}
          {!t.device && t.own && (
            <Sure
              ask={`Remove ${t.name} from this site?`}
              more="What stands on it stays on it; Unlatch no longer looks after it."
              yes="Remove it"
              onYes={() => drop.mutate(t.id, { onSuccess: () => go(`/sites/${site.id}/patch`) })}
            >
              <Button>Remove it</Button>
            </Sure>
          )}
        </div>
        {t.refused && (
          <p className="border-l-4 border-stuck bg-sheet px-3 py-2">
            It refuses the sign-in that it was given. It is not sent again by itself, so that nothing is locked.
          </p>
        )}
        <TargetTrust target={t} />
        <Intake site={site.id} target={t} />
        {t.kind === "template" && <TemplateForm key={t.id} site={site.id} target={t} />}
        {t.kind === "feed" && <Feed site={site.id} target={t} />}
        <section aria-label="Slots">
          <h2 className="mb-1 font-semibold">
            {asked
              ? `Slots: ${n.free} free, ${n.used} used${n.blocked ? `, ${n.blocked} blocked` : ""}${n.locked ? `, ${n.locked} locked` : ""}`
              : "What stands on it, in order"}
          </h2>
          {rows.length === 0 && <p className="text-soft">{asked ? "It has told no slots yet: look at it." : "Nothing yet."}</p>}
          <ol className={`grid gap-2 sm:grid-cols-2 ${t.kind === "hub" ? "" : "lg:grid-cols-3"}`}>
            {rows.map((r, i) => (
              <SlotCard key={r.key} row={r} rows={rows} at={i} site={site.id} target={t} devices={devices} targets={targets.data} />
            ))}
          </ol>
        </section>
        {asked && <Said site={site.id} target={t} />}
      </div>
      {changing && <TargetSheet site={site.id} open onOpenChange={setChanging} targets={targets.data} target={t} />}
    </div>
  );
}

/** What it takes: by its own word, or by an intake that somebody chose, which goes before that. */
function Intake({ site, target: t }: { site: string; target: Target }) {
  const intakes = useIntakes();
  const set = useSetIntake(site);
  const x = t.about?.intake;
  const says = x
    ? [
        x.roles?.length ? `${x.roles.join(" and ")} stream` : "",
        x.codecs?.join(" or "),
        x.sizes?.length ? `${x.sizes.length} sizes` : "",
        x.max_size?.Width ? `at most ${x.max_size.Width}×${x.max_size.Height}` : "",
        x.fps?.max ? `at most ${x.fps.max} frames a second` : "",
        x.schemes?.length ? `signs in by ${x.schemes.join(" or ")}` : "",
        x.tls === "no" ? "no encryption" : "",
        t.about?.through ? "channels of a recorder only" : "",
        t.about?.pictures ? "picture URLs too" : "",
      ].filter(Boolean)
    : [];
  return (
    <section aria-label="What it takes" className="flex flex-wrap items-center gap-x-4 gap-y-2 border-y py-2">
      <p className="min-w-0 grow">
        <span className="font-semibold">Takes</span>{" "}
        <span className="text-soft">
          {says.length > 0 ? `${says.join(", ")} (by its own word)` : "whatever it is given, as far as it says"}
        </span>
      </p>
      <label className="flex items-center gap-2 text-small text-soft">
        Go by
        <select
          className="h-8 max-w-72 rounded-md border bg-sheet px-2 text-ink"
          value={t.intake ?? ""}
          onChange={(e) => set.mutate({ target: t.id, name: e.target.value })}
        >
          <option value="">its own word</option>
          {(intakes.data ?? []).map((i) => (
            <option key={`${i.book} ${i.name}`}>{i.name}</option>
          ))}
        </select>
      </label>
    </section>
  );
}

const listOf = (s: NonNullable<Target["screens"]>[number]) =>
  s.old ? "✕ asks at an old address" : s.current ? "● has the list as it is" : "◌ has an older list";

function Feed({ site, target: t }: { site: string; target: Target }) {
  const address = useFeedAddress(site);
  const at = t.feed ? location.origin + t.feed : "";
  const old = (t.screens ?? []).filter((s) => s.old).length;
  return (
    <section aria-label="Feed" className="space-y-2">
      {at ? (
        <>
          <p className="flex flex-wrap items-center gap-2">
            <span className="font-semibold">One address for all screens</span>
            <Copy label="Copy the address" text={at} />
            <Copy label="as M3U" text={`${at}?format=m3u`} />
            <Copy label="as XSPF" text={`${at}?format=xspf`} />
            <span className="grow" />
            <Sure
              ask="Make a new address?"
              more="The old one stops at once: each screen needs the new one."
              yes="Make a new one"
              onYes={() => address.mutate({ target: t.id })}
            >
              <Button>Make a new one</Button>
            </Sure>
            <Sure
              ask="Withdraw this address?"
              more="No screen that has it gets the list any more. It cannot be brought back: each screen then needs a new one."
              yes="Withdraw it"
              onYes={() => address.mutate({ target: t.id, close: true })}
            >
              <Button look="danger">Withdraw it</Button>
            </Sure>
          </p>
          <p
            className="mono overflow-x-auto border bg-well px-2 py-1
            whitespace-nowrap"
          >{`${location.origin}/feeds/${t.feed!.slice(7, 13)}…`}</p>
          <p className="text-small text-soft">
            The list holds the sign-ins of the cameras’ streams: whoever knows the address can read them. It is shown shortened here;
            copying takes it whole.
          </p>
        </>
      ) : (
        <p className="flex items-center gap-3">
          <span className="grow">Its address is withdrawn: no screen gets the list.</span>
          <Button look="next" onClick={() => address.mutate({ target: t.id })}>
            Make an address
          </Button>
        </p>
      )}
      {old > 0 && (
        <p className="border-l-4 border-stuck bg-sheet px-3 py-2">
          {old === 1 ? "One screen still asks" : `${old} screens still ask`} at an address that was replaced or withdrawn, and get nothing
          there: give {old === 1 ? "it" : "each"} the present one.
        </p>
      )}
      <table className="w-full">
        <caption className="sr-only">Who takes the list</caption>
        <thead>
          <tr className="border-b text-left text-small text-soft">
            <th className="py-1 font-normal">Screen</th>
            <th className="font-normal">Address</th>
            <th className="font-normal">List</th>
            <th className="text-right font-normal">Fetched</th>
            <th className="text-right font-normal">Shows</th>
          </tr>
        </thead>
        <tbody>
          {(t.screens ?? []).map((s) => (
            <tr key={`${s.name} ${s.address}`} className="border-b">
              <td className="py-1.5">{s.name}</td>
              <td className="mono">{s.address}</td>
              <td className={s.old ? "text-stuck" : s.current ? "text-open" : "text-soft"}>{listOf(s)}</td>
              <td className="num text-right">{s.old ? `asked ${when(s.fetched)}` : `${s.times} times, last ${when(s.fetched)}`}</td>
              <td className="num text-right">
                {s.showing?.length ?? 0} of {t.wanted.length}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {(t.screens ?? []).length === 0 && (
        <p className="text-soft">No screen has fetched it yet. Type the address into each screen once; from then on the list follows.</p>
      )}
    </section>
  );
}

/** What the target has said, with the conversations. */
function Said({ site, target: t }: { site: string; target: Target }) {
  const history = useTargetHistory(site, t.id);
  return (
    <section aria-label="What it has said">
      <h2 className="mb-1 font-semibold">What it has said</h2>
      <Trouble error={history.error} />
      <ul className="divide-y border-y">
        {(history.data ?? []).map((h) => (
          <li key={h.id} className="flex items-start gap-3 py-1.5">
            <time className="num shrink-0 text-small text-soft">{when(h.at)}</time>
            <span className={`min-w-0 grow ${h.ok ? "" : "text-stuck"}`}>
              {h.text.charAt(0).toUpperCase() + h.text.slice(1)} {h.fix && <span className="text-soft">{h.fix}</span>}
            </span>
            {h.exchange && (
              <Link className="shrink-0 text-small text-soft underline hover:text-ink" to={`/sites/${site}/exchange/target/${h.id}`}>
                Exchange
              </Link>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
