import { ClipboardPaste, MonitorPlay } from "lucide-react";
import { type RefObject, useEffect, useMemo, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import type { Device, Site } from "@/api/client";
import { useOpenLatches } from "@/api/actions";
import { useMay, useRuns, useTargets } from "@/api/queries";
import { usePlace } from "@/api/targets";
import { AgreeSheet } from "./AgreeSheet";
import { AddressSheet } from "./AddressSheet";
import { NameSheet } from "./NameSheet";
import { Check } from "@/parts/Check";
import { ClaimSheet } from "./ClaimSheet";
import { StreamUserSheet } from "@/forms/StreamUserSheet";
import { Button } from "@/parts/Button";
import { SearchField } from "@/parts/SearchField";
import { Funnel } from "./Funnel";
import { useKeys } from "@/parts/keys";
import { Bench } from "@/views/bench/Bench";
import { inScope, watchable } from "@/parts/latches";
import { useFrame } from "@/parts/useFrame";
import { ActionBar } from "./LineUpActions";
import { shownColumns, template } from "./columns";
import { useView } from "./useView";
import { columnNames, inGroups, passes, plainView, type View } from "./view";
import { ViewMenu } from "./ViewMenu";
import { Rows } from "./LineUpRows";
import { holdsWords } from "@/parts/words";

/** Whether a device holds every word of a text. */
const fits = (text: string) => {
  const holds = holdsWords(text);
  return (d: Device) => holds(d.name, d.address, d.maker, d.model, d.serial, d.firmware, d.via?.name);
};

/** Home of a site: its cameras with their latches, a funnel above, the camera in hand beside. */
export function LineUp() {
  const { site, devices, sweep, paste } = useFrame();
  const [params, setParams] = useSearchParams();
  const at = params.get("at");
  const chosen = params.get("device");
  const [text, setText] = useState(params.get("text") ?? "");
  const [selected, setSelected] = useState<Set<string>>(new Set());
  const [renaming, setRenaming] = useState<string | null>(null);
  const [sheet, setSheet] = useState<OpenSheet | null>(null);
  const on = (kind: OpenSheet["kind"]) => (list: Device[]) => setSheet({ kind, devices: list });
  const search = useRef<HTMLInputElement>(null);

  const inRange = useMemo(() => devices.filter((d) => inScope(d) && d.kind !== "other"), [devices]);
  const cameras = useMemo(() => inRange.filter((d) => d.kind === "camera"), [inRange]);
  const recorders = useMemo(() => inRange.filter((d) => d.kind === "recorder"), [inRange]);
  const [view, setView] = useView(site.id);
  const shown = useMemo(() => {
    const list = [...(at === null ? recorders : []), ...cameras.filter((d) => at === null || d.at === at)];
    return inGroups(list.filter(fits(text)).filter(passes(view)), view.group);
  }, [cameras, recorders, at, text, view]);
  const picked = shown.filter((d) => selected.has(d.id));
  const current = devices.find((d) => d.id === chosen);

  // The row that the next key is for: it counts from the moment of a key press, not only once the page is drawn anew.
  const hand = useRef(chosen);
  useEffect(() => {
    hand.current = chosen;
  }, [chosen]);
  const set = (key: string, value: string | null) => {
    if (key === "device") hand.current = value;
    setParams(
      (p) => {
        if (value === null) p.delete(key);
        else p.set(key, value);
        return p;
      },
      { replace: true },
    );
  };
  const move = (step: number) => {
    if (shown.length === 0) return;
    const i = shown.findIndex((d) => d.id === hand.current);
    set("device", shown[Math.max(0, Math.min(shown.length - 1, i < 0 ? 0 : i + step))]!.id);
  };
  const toggle = (id: string) => setSelected((s) => new Set(s.has(id) ? [...s].filter((x) => x !== id) : [...s, id]));
  const all = shown.length > 0 && picked.length === shown.length;
  const toggleAll = () => setSelected(all ? new Set() : new Set(shown.map((d) => d.id)));

  const open = useOpenLatches(site.id);
  const go = (list: Device[], retry?: boolean) =>
    open.mutate({ devices: list.map((d) => d.id), retry }, { onSuccess: () => setSelected(new Set()) });
  const forKeys = () => (picked.length > 0 ? picked : devices.filter((d) => d.id === hand.current));
  const targets = useTargets(site.id).data ?? [];
  const place = usePlace(site.id);
  const navigate = useNavigate();

  const watch = (list: Device[]) => {
    const ids = list.filter(watchable).map((d) => d.id);
    navigate(`/sites/${site.id}/watch${ids.length > 1 ? `?walk=${ids.slice(0, 9).join(",")}` : ids[0] ? `?device=${ids[0]}` : ""}`);
  };

  useKeys({
    ArrowDown: () => move(1),
    ArrowUp: () => move(-1),
    " ": () => hand.current && toggle(hand.current),
    a: toggleAll,
    Enter: () => document.getElementById("bench")?.focus(),
    o: () => forKeys().length > 0 && go(forKeys()),
    p: () => {
      const list = forKeys().filter((d) => d.kind === "camera");
      if (list.length === 0) return;
      const only = targets.length === 1 ? targets[0] : undefined;
      if (only)
        place.mutate(
          { placements: list.map((d) => ({ device: d.id, target: only.id })), name: only.name },
          { onSuccess: () => setSelected(new Set()) },
        );
      else navigate(`/sites/${site.id}/patch`); // where one of several is chosen
    },
    r: () => (picked.length > 1 ? on("name")(picked) : hand.current && setRenaming(hand.current)),
    w: () => watch(forKeys()),
    "/": () => search.current?.focus(),
    Escape: () => (selected.size > 0 ? setSelected(new Set()) : set("device", null)),
  });

  if (inRange.length === 0) return <Empty sweep={sweep} paste={paste} />;
  return (
    <div className="flex h-full">
      <section className={`@container flex min-w-0 grow flex-col ${current ? "max-lg:hidden" : ""}`} aria-label="Line-up">
        <Funnel devices={cameras} at={at} onChange={(v) => set("at", v)} />
        <ActionBar
          picked={picked}
          cameras={cameras}
          onPlaced={() => setSelected(new Set())}
          all={inRange}
          go={go}
          busy={open.isPending}
          quiet={!!current}
          onAgree={on("agree")}
          onAddress={on("address")}
          onClaim={on("claim")}
          onStreamUser={on("user")}
          onWatch={watch}
          onName={on("name")}
        >
          <Tools
            selecting={picked.length > 0}
            onWatch={() => watch(forKeys())}
            paste={paste}
            cameras={cameras}
            {...{ view, setView, search, text, setText }}
          />
        </ActionBar>
        <Columns view={view} narrow={!!current} all={all ? true : picked.length > 0 ? "indeterminate" : false} toggleAll={toggleAll} />
        <Rows
          shown={shown}
          view={view}
          chosen={chosen}
          selected={selected}
          narrow={!!current}
          renaming={renaming}
          setRenaming={setRenaming}
          choose={(id) => set("device", id)}
          toggle={toggle}
        />
        {shown.length === 0 && <NoneFits setText={setText} setView={setView} set={set} />}
      </section>
      {sheet && <Sheets site={site} sheet={sheet} close={() => setSheet(null)} agreed={() => setSelected(new Set())} />}
      {current && (
        <Bench
          onAgree={() => on("agree")([current])}
          onClaim={() => on("claim")([current])}
          onStreamUser={() => on("user")([current])}
          onAddress={() => on("address")([current])}
          key={current.id}
          device={current}
          onClose={() => set("device", null)}
          onOpen={go}
        />
      )}
    </div>
  );
}

type ToolsProps = {
  selecting: boolean;
  onWatch: () => void;
  paste: () => void;
  cameras: Device[];
  view: View;
  setView: (v: View) => void;
  search: RefObject<HTMLInputElement | null>;
  text: string;
  setText: (text: string) => void;
};

/** What is always at hand beside the next step: watching, pasting, filters, search. A selection needs the room for itself. */
function Tools({ selecting, onWatch, paste, cameras, view, setView, search, text, setText }: ToolsProps) {
  return (
    <>
      {!selecting && (
        <>
          <Button onClick={onWatch} title="Moving pictures (W)">
            <MonitorPlay size={15} /> <span className="@max-5xl:hidden">Watch</span>
          </Button>
          <Button onClick={paste} title="Paste a stream URL (V)">
            <ClipboardPaste size={15} /> <span className="@max-5xl:hidden">Paste a URL</span>
          </Button>
        </>
      )}
      <ViewMenu devices={cameras} view={view} setView={setView} />
      <SearchField
        field={search}
        text={text}
        setText={setText}
        label="Search the line-up"
        placeholder="Name, address, model"
        className={`max-sm:grow ${selecting ? "sm:w-28" : "sm:w-48"}`}
      />
    </>
  );
}

function NoneFits({
  setText,
  setView,
  set,
}: {
  setText: (text: string) => void;
  setView: (v: View) => void;
  set: (key: string, value: null) => void;
}) {
  const showAll = () => {
    setText("");
    setView(plainView);
    set("at", null);
  };
  return (
    <p className="p-6 text-soft">
      No camera fits.{" "}
      <button type="button" className="underline" onClick={showAll}>
        Show all
      </button>
    </p>
  );
}

type OpenSheet = { kind: "address" | "claim" | "user" | "agree" | "name"; devices: Device[] };

/** The sheet that is open over the line-up. */
function Sheets({ site, sheet, close, agreed }: { site: Site; sheet: OpenSheet; close: () => void; agreed: () => void }) {
  const { kind, devices } = sheet;
  if (kind === "address") return <AddressSheet site={site} devices={devices} open onOpenChange={close} />;
  if (kind === "claim") return <ClaimSheet site={site.id} devices={devices} open onOpenChange={close} />;
  if (kind === "user") return <StreamUserSheet site={site.id} devices={devices} onClose={close} />;
  if (kind === "name") return <NameSheet site={site.id} devices={devices} onClose={close} />;
  const done = () => {
    close();
    agreed();
  };
  return <AgreeSheet site={site.id} devices={devices} onClose={done} />;
}

/** The heads of the columns, with the box that selects all. */
function Columns({ view, narrow, all, toggleAll }: { view: View; narrow: boolean; all: boolean | "indeterminate"; toggleAll: () => void }) {
  return (
    <div
      className={`grid h-7 shrink-0 items-center gap-x-3 overflow-hidden border-b px-4 [scrollbar-gutter:stable] text-small
        text-soft max-md:hidden`}
      style={{ gridTemplateColumns: template(view.columns, narrow) }}
    >
      <Check checked={all} onChange={toggleAll} label="Select all that are shown" />
      <span />
      <span>Camera</span>
      <span>Latches</span>
      {shownColumns(view.columns, narrow).map((c) => (
        <span key={c}>{c === "main" || c === "sub" ? `${columnNames[c]}, measured` : columnNames[c]}</span>
      ))}
    </div>
  );
}

function Empty({ sweep, paste }: { sweep: () => void; paste: () => void }) {
  const { site } = useFrame();
  const runs = useRuns(site.id);
  const may = useMay();
  const sweeping = runs.data?.some((r) => r.kind === "sweep" && r.state === "running");
  return (
    <div className="grid h-full place-items-center p-6 text-center">
      <div>
        <p className="mb-1 text-lg">{sweeping ? "Listening …" : "No camera found yet"}</p>
        <p className="mb-5 text-soft">
          {sweeping ? (
            "Cameras appear here as they answer."
          ) : !may("work") ? (
            "Whoever works on this site sweeps it."
          ) : (
            <>
              Sweep <span className="mono">{site.ranges.join(", ")}</span> to hear what is on the wire.
            </>
          )}
        </p>
        {!sweeping && may("work") && (
          <Button look="next" className="h-10 px-5" onClick={sweep}>
            Sweep the site
          </Button>
        )}
        {!sweeping && (
          <p className="mt-4 text-soft">
            Or{" "}
            <button type="button" className="underline hover:text-ink" onClick={paste}>
              paste a stream URL
            </button>{" "}
            that you hold already.
          </p>
        )}
      </div>
    </div>
  );
}
