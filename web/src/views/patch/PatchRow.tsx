import { Lock } from "lucide-react";
import type { KeyboardEvent, PointerEvent } from "react";
import { Link } from "react-router";
import type { Device, Fitting } from "@/api/client";
import { useChangeTarget, useLookAt } from "@/api/targets";
import { Button } from "@/parts/Button";
import { Facts, PlugSign, Socket } from "@/parts/Jack";
import { cordText, countsOf, endless, type Row } from "@/parts/patch";

type Props = {
  row: Row;
  site: string;
  hand?: Device[];
  over: boolean;
  verdict: Fitting["verdict"] | "taken" | null;
  focus: string;
  chosen: boolean;
  picked: number;
  onFocusTarget: () => void;
  onChoose: () => void;
  onDrop: () => void;
  onStep: (e: KeyboardEvent, way: 1 | -1) => void;
  onTake: (e: PointerEvent) => void;
  onTakeByKey: () => void;
  onTakeOff: () => void;
  onFill: () => void;
};

const marks = { confirmed: "●", waiting: "◌", stale: "◐", broken: "✕" } as const;

/** One row at the right of the patch bench. */
export function PatchRow(p: Props) {
  const { row } = p;
  const dim = p.focus !== "" && p.focus !== row.target.id && p.focus !== row.device?.id;
  const style = { top: row.y, height: row.h, opacity: dim && !p.hand ? 0.4 : 1 };
  if (row.kind === "head") return <Head {...p} style={style} />;
  if (row.kind === "word") return <Word {...p} style={style} />;
  const slot = row.slot!;
  const state = row.placement?.state;
  const name = row.device?.name ?? slot.name;
  const stands = row.placement ? cordText(row.placement) : slot.state || "";
  const says = name ? `${name}. ${stands}` : slot.why || slot.is;
  return (
    <div
      data-row={row.key}
      data-on={row.target.name}
      data-slot={slot.label || slot.token}
      data-holds={name}
      data-state={state}
      tabIndex={0}
      role="group"
      aria-label={`${row.target.name}, ${slot.label || slot.token}: ${says}`}
      className={`absolute right-2 left-0 flex items-center gap-2 border-b border-l pr-2 pl-1
        ${p.over || p.chosen ? "bg-well" : "bg-sheet"}`}
      style={style}
      onKeyDown={(e) => {
        if (e.target !== e.currentTarget) return;
        if (e.key === "ArrowDown") p.onStep(e, 1);
        if (e.key === "ArrowUp") p.onStep(e, -1);
        if (e.key === "Enter") {
          e.preventDefault();
          if (p.hand) p.onDrop();
          else if (row.placement) p.onChoose();
        }
        if ((e.key === "t" || e.key === "T") && row.device) {
          e.preventDefault();
          p.onTakeByKey();
        }
        if (e.key === "Delete" && row.device) p.onTakeOff();
      }}
    >
      <span
        className={
          row.device && slot.is !== "locked" ? "grid size-8 cursor-grab touch-none place-items-center" : "grid size-8 place-items-center"
        }
        onPointerDown={(e) => {
          if (e.button === 0 && row.device && !p.hand) {
            e.preventDefault();
            p.onTake(e);
          }
        }}
      >
        {p.hand && p.verdict ? <PlugSign verdict={p.verdict} /> : <Socket is={row.device ? "used" : slot.is} />}
      </span>
      <span className="w-24 shrink-0 truncate text-small text-soft" title={slot.label}>
        {slot.label || slot.token}
      </span>
      {row.placement ? (
        <button
          type="button"
          className="flex min-w-0 grow items-center gap-2 text-left"
          onClick={p.onChoose}
          title={cordText(row.placement)}
        >
          <span className={`shrink-0 ${state === "confirmed" ? "text-open" : state === "broken" ? "text-stuck" : "text-soft"}`} aria-hidden>
            {marks[state!]}
          </span>
          <span className="truncate">{name}</span>
          <span className={`min-w-0 truncate text-small ${state === "broken" ? "text-stuck" : "text-soft"}`}>{short(row)}</span>
        </button>
      ) : (
        <span className="flex min-w-0 grow items-center gap-1.5 truncate text-soft">
          {slot.is === "locked" && <Lock size={13} aria-hidden />}
          {name ? `${name}` : ""} {slot.why && <span className="truncate text-small">{slot.why}</span>}
        </span>
      )}
      {slot.is === "blocked" && slot.can_free && <FreeButton {...p} />}
      {!row.placement && slot.is === "free" && p.picked > 0 && !p.hand && !endless(row.target) && (
        <Button look="quiet" className="h-7" onClick={p.onFill}>
          Fill from here
        </Button>
      )}
    </div>
  );
}

/** What a slot says in a few words. */
function short(row: Row) {
  const p = row.placement!;
  if (p.diagnosis?.cause === "wrong_picture") return "shows another camera";
  if (p.diagnosis?.cause === "intake_unmet") return "does not take its streams";
  if (p.diagnosis) return p.slot ? "no picture" : "not taken";
  if (p.moved) return `old ${p.old}`;
  if (p.confirmed) return p.match === "right camera" ? "right picture" : p.report ? "shows it" : "attested";
  return p.slot ? "waiting" : "wanted";
}

function FreeButton({ row, site }: Props) {
  const change = useChangeTarget(site);
  return (
    <Button look="quiet" className="h-7" onClick={() => change.mutate({ target: row.target.id, free: row.slot!.token })}>
      Free it
    </Button>
  );
}

type Style = { style: { top: number; height: number; opacity: number } };

function Head({ row, site, focus, onFocusTarget, onStep, style }: Props & Style) {
  const t = row.target;
  const n = countsOf(t);
  const limit = t.layout?.limit_kbps;
  const load = t.layout?.load_kbps ?? 0;
  const facts = [
    t.is,
    endless(t) ? `${t.wanted.length} on it` : t.layout ? `${n.free} free, ${n.used} used` : "",
    n.blocked ? `${n.blocked} blocked` : "",
    t.layout?.days ? `${t.layout.days < 10 ? t.layout.days.toFixed(1) : Math.round(t.layout.days)} days` : "",
    t.screens?.length ? `${t.screens.filter((s) => s.current).length} of ${t.screens.length} screens have the list` : "",
  ].filter(Boolean);
  return (
    <div
      data-row={row.key}
      tabIndex={0}
      role="group"
      aria-label={`${t.name}, ${facts.join(", ")}`}
      className="absolute right-2 left-0 flex items-center gap-2 border-t-2 border-b border-t-ink bg-sheet px-3"
      style={style}
      onKeyDown={(e) => {
        if (e.target !== e.currentTarget) return;
        if (e.key === "ArrowDown") onStep(e, 1);
        if (e.key === "ArrowUp") onStep(e, -1);
      }}
    >
      <button
        type="button"
        className="min-w-0 grow text-left"
        aria-pressed={focus === t.id}
        onClick={onFocusTarget}
        title="Show its cords alone"
      >
        <span className="block truncate text-lead font-semibold">{t.name}</span>
        <Facts>{facts.join(" · ")}</Facts>
      </button>
      {limit ? (
        <span className="w-36 shrink-0 text-right text-small" title={`${Math.round(load)} of ${Math.round(limit)} kbit/s come in`}>
          <span className="num text-soft">
            {(load / 1000).toFixed(1)} of {Math.round(limit / 1000)} Mbit/s
          </span>
          <span className="mt-0.5 block h-1.5 rounded-sm bg-well">
            <span
              className={`block h-full rounded-sm ${load > limit * 0.9 ? "bg-stuck" : "bg-open"}`}
              style={{ width: `${Math.min(100, (load / limit) * 100)}%` }}
            />
          </span>
        </span>
      ) : null}
      <Link className="shrink-0 rounded-md border px-2 py-1 text-small hover:bg-well" to={`/sites/${site}/targets/${t.id}`}>
        Open
      </Link>
    </div>
  );
}

function Word({ row, site, style }: Props & Style) {
  const look = useLookAt(site);
  const t = row.target;
  return (
    <div className="absolute right-2 left-0 flex items-center gap-2 border-b border-l bg-sheet px-3" style={style}>
      <span className="min-w-0 grow text-small text-soft">
        {t.refused
          ? "It refuses the sign-in that it was given."
          : t.seen_at
            ? "It has told no slots: look at its record."
            : "It has not been looked at yet."}
      </span>
      {t.refused ? (
        <Link className="shrink-0 underline" to={`/sites/${site}/targets/${t.id}`}>
          Another sign-in
        </Link>
      ) : (
        <Button onClick={() => look.mutate({ targets: [t.id] })}>Look at it</Button>
      )}
    </div>
  );
}
