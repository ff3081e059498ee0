import { useVirtualizer } from "@tanstack/react-virtual";
import { ClipboardPaste, KeyRound, Search } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import type { Device } from "@/api/client";
import { backToBefore, say, useForget, useOpenLatches, useReaddress, useRename, useRuns } from "@/api/queries";
import { AgreeSheet } from "@/parts/AgreeSheet";
import { AddressSheet } from "@/parts/AddressSheet";
import { Check } from "@/parts/Check";
import { ClaimSheet } from "@/parts/ClaimSheet";
import { StreamUserSheet } from "@/parts/StreamUserSheet";
import { Button } from "@/parts/Button";
import { Funnel } from "@/parts/Funnel";
import { onRow, useGridFocus } from "@/parts/gridfocus";
import { useKeys } from "@/parts/keys";
import { LatchChain } from "@/parts/LatchChain";
import { canGoOn, isStuck, streamOf } from "@/parts/latches";
import { stillOf, StreamLine } from "@/parts/measures";
import { Still } from "@/parts/Still";
import { useMedia } from "@/parts/useMedia";
import { Bench } from "./Bench";
import { useFrame } from "./SiteFrame";
import { Sure } from "@/parts/Sure";

const rowHeight = 44;

/** Home of a site: its cameras with their latches, a funnel above, the camera in hand beside. */
export function LineUp() {
  const { site, devices, sweep, paste } = useFrame();
  const [params, setParams] = useSearchParams();
  const at = params.get("at");
  const chosen = params.get("device");
  const [text, setText] = useState("");
  const [selected, setSelected] = useState<Set<string>>(new Set());
  const [renaming, setRenaming] = useState<string | null>(null);
  const [addressing, setAddressing] = useState<Device[] | null>(null);
  const [claiming, setClaiming] = useState<Device[] | null>(null);
  const [streamUser, setStreamUser] = useState<Device[] | null>(null);
  const [agreeing, setAgreeing] = useState<Device[] | null>(null);
  const search = useRef<HTMLInputElement>(null);

  const inRange = useMemo(() => devices.filter((d) => (!d.stray || d.consent) && d.kind !== "other"), [devices]);
  const cameras = useMemo(() => inRange.filter((d) => d.kind === "camera"), [inRange]);
  const recorders = useMemo(() => inRange.filter((d) => d.kind === "recorder"), [inRange]);
  const shown = useMemo(() => {
    const words = text.toLowerCase().split(/\s+/).filter(Boolean);
    const fits = (d: Device) =>
      words.every((w) => `${d.name} ${d.address} ${d.maker} ${d.model} ${d.serial} ${d.via?.name ?? ""}`.toLowerCase().includes(w));
    return [...(at === null ? recorders : []), ...cameras.filter((d) => at === null || d.at === at)].filter(fits);
  }, [cameras, recorders, at, text]);
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
  const go = (list: Device[], target?: string, retry?: boolean) =>
    open.mutate({ devices: list.map((d) => d.id), target, retry }, { onSuccess: () => setSelected(new Set()) });
  const forKeys = () => (picked.length > 0 ? picked : devices.filter((d) => d.id === hand.current));
  const readyRecorders = recorders.filter((r) => r.at === "" || r.latches.some((l) => l.name === "signed_in" && l.state === "open"));

  useKeys({
    ArrowDown: () => move(1),
    ArrowUp: () => move(-1),
    " ": () => hand.current && toggle(hand.current),
    a: toggleAll,
    Enter: () => document.getElementById("bench")?.focus(),
    o: () => forKeys().length > 0 && go(forKeys()),
    p: () =>
      forKeys().length > 0 &&
      readyRecorders.length === 1 &&
      go(
        forKeys().filter((d) => d.kind === "camera"),
        readyRecorders[0]!.id,
      ),
    r: () => hand.current && setRenaming(hand.current),
    "/": () => search.current?.focus(),
    Escape: () => (selected.size > 0 ? setSelected(new Set()) : set("device", null)),
  });

  if (inRange.length === 0) return <Empty sweep={sweep} paste={paste} />;
  return (
    <div className="flex h-full">
      <section className={`flex min-w-0 grow flex-col ${current ? "max-lg:hidden" : ""}`} aria-label="Line-up">
        <Funnel devices={cameras} at={at} onChange={(v) => set("at", v)} />
        <ActionBar
          picked={picked}
          cameras={cameras}
          recorders={readyRecorders}
          all={inRange}
          go={go}
          busy={open.isPending}
          quiet={!!current}
          onAgree={setAgreeing}
          onAddress={setAddressing}
          onClaim={setClaiming}
          onStreamUser={setStreamUser}
        >
          <Button onClick={paste} title="Paste a stream URL (V)">
            <ClipboardPaste size={15} /> <span className="max-xl:hidden">Paste a URL</span>
          </Button>
          <label className="relative max-sm:grow">
            <Search size={14} className="absolute top-2.5 left-2.5 text-soft" aria-hidden />
            <input
              ref={search}
              value={text}
              onChange={(e) => setText(e.target.value)}
              onKeyDown={(e) => {
                if (e.key !== "Escape") return;
                setText("");
                e.currentTarget.blur();
              }}
              placeholder="Name, address, model"
              aria-label="Search the line-up"
              className="h-8 w-full rounded-md border bg-sheet pr-2 pl-8 sm:w-48"
            />
          </label>
        </ActionBar>
        <div
          className={`grid h-7 shrink-0 items-center gap-x-3 overflow-hidden border-b px-4 [scrollbar-gutter:stable] text-small text-soft max-md:hidden ${columns(!!current)}`}
        >
          <Check
            checked={all ? true : picked.length > 0 ? "indeterminate" : false}
            onChange={toggleAll}
            label="Select all that are shown"
          />
          <span />
          <span>Camera</span>
          <span>Latches</span>
          {!current && (
            <>
              <span>Main stream, measured</span>
              <span>Sub stream, measured</span>
            </>
          )}
          <span>On</span>
        </div>
        <Rows
          shown={shown}
          chosen={chosen}
          selected={selected}
          narrow={!!current}
          renaming={renaming}
          setRenaming={setRenaming}
          choose={(id) => set("device", id)}
          toggle={toggle}
        />
        {shown.length === 0 && (
          <p className="p-6 text-soft">
            No camera fits.{" "}
            <button
              type="button"
              className="underline"
              onClick={() => {
                setText("");
                set("at", null);
              }}
            >
              Show all
            </button>
          </p>
        )}
      </section>
      {addressing && <AddressSheet site={site} devices={addressing} open onOpenChange={() => setAddressing(null)} />}
      {claiming && <ClaimSheet site={site.id} devices={claiming} open onOpenChange={() => setClaiming(null)} />}
      {streamUser && <StreamUserSheet site={site.id} devices={streamUser} onClose={() => setStreamUser(null)} />}
      {agreeing && (
        <AgreeSheet
          site={site.id}
          devices={agreeing}
          onClose={() => {
            setAgreeing(null);
            setSelected(new Set());
          }}
        />
      )}
      {current && (
        <Bench
          onAgree={() => setAgreeing([current])}
          onClaim={() => setClaiming([current])}
          onStreamUser={() => setStreamUser([current])}
          onAddress={() => setAddressing([current])}
          key={current.id}
          device={current}
          recorders={readyRecorders}
          onClose={() => set("device", null)}
          onOpen={go}
        />
      )}
    </div>
  );
}

const columns = (narrow: boolean) =>
  narrow
    ? "md:grid-cols-[20px_56px_minmax(140px,1fr)_132px_minmax(70px,130px)]"
    : "md:grid-cols-[20px_56px_minmax(160px,1fr)_132px_228px_228px_minmax(90px,140px)]";

function Empty({ sweep, paste }: { sweep: () => void; paste: () => void }) {
  const { site } = useFrame();
  const runs = useRuns(site.id);
  const sweeping = runs.data?.some((r) => r.kind === "sweep" && r.state === "running");
  return (
    <div className="grid h-full place-items-center p-6 text-center">
      <div>
        <p className="mb-1 text-lg">{sweeping ? "Listening …" : "No camera found yet"}</p>
        <p className="mb-5 text-soft">
          {sweeping ? (
            "Cameras appear here as they answer."
          ) : (
            <>
              Sweep <span className="mono">{site.ranges.join(", ")}</span> to hear what is on the wire.
            </>
          )}
        </p>
        {!sweeping && (
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

/** What to do next, for the selection or for the whole site. */
function ActionBar({
  picked,
  cameras,
  recorders,
  all,
  go,
  busy,
  quiet,
  onAgree,
  onAddress,
  onClaim,
  onStreamUser,
  children,
}: {
  picked: Device[];
  cameras: Device[];
  recorders: Device[];
  all: Device[];
  go: (list: Device[], target?: string) => void;
  busy: boolean;
  quiet: boolean;
  onAgree: (list: Device[]) => void;
  onAddress: (list: Device[]) => void;
  onClaim: (list: Device[]) => void;
  onStreamUser: (list: Device[]) => void;
  children: React.ReactNode;
}) {
  // While a camera is in hand, the brass button is its own next step.
  const look = quiet ? "plain" : "next";
  const { addSignIn } = useFrame();
  const ready = all.filter(canGoOn);
  const proven = cameras.filter((d) => d.next.action === "place");
  const stuck = cameras.filter(isStuck);
  const fresh = (picked.length > 0 ? picked : cameras).filter((d) => d.next.action === "claim");
  const wantKey = stuck.filter((d) => d.next.action === "add_sign_in");
  const asks = (picked.length > 0 ? picked : all).filter((d) => d.next.action === "agree");
  const apart = cameras.filter((d) => d.next.action === "stream_user");
  const mine = picked.filter(
    (d) => d.kind === "camera" && !d.via && d.grid?.some((r) => r.service === "device service" && r.state === "opens"),
  );
  const many = (n: number, what = "camera") => `${n} ${what}${n === 1 ? "" : "s"}`;
  const wired = picked.filter((d) => !d.via); // what hangs on a recorder's switch has its address from there
  const pickedCameras = picked.filter((d) => d.kind === "camera");
  return (
    <div className="flex min-h-12 shrink-0 flex-wrap items-center gap-2 border-b px-4 py-2">
      {picked.length > 0 ? (
        <>
          <span className="num font-medium">{many(picked.length, "device")} selected</span>
          <Button look="next" disabled={busy} onClick={() => go(picked)}>
            Open latches of {many(picked.length, "device")}
          </Button>
          {pickedCameras.length > 0 && <PlaceButton cameras={pickedCameras} recorders={recorders} go={go} busy={busy} />}
          {fresh.length > 0 && <Button onClick={() => onClaim(fresh)}>Claim {many(fresh.length, "device")}</Button>}
          {asks.length > 0 && <Button onClick={() => onAgree(asks)}>Agree to basic for {many(asks.length, "device")}</Button>}
          {mine.length > 0 && (
            <Button onClick={() => onStreamUser(mine)}>Make a stream user{mine.length > 1 && ` on ${mine.length}`}</Button>
          )}
          {wired.length > 0 && <Button onClick={() => onAddress(wired)}>Give addresses</Button>}
          <UndoAddresses devices={picked} />
          <ForgetButton devices={picked} />
        </>
      ) : ready.length > 0 ? (
        <>
          <Button look={look} disabled={busy} onClick={() => go(ready)}>
            Open latches of {many(ready.length, "device")}
          </Button>
          <span className="text-soft max-sm:hidden">{ready.length === 1 ? "It waits" : "They wait"} for nothing but this.</span>
        </>
      ) : fresh.length > 0 ? (
        <>
          <Button look={look} onClick={() => onClaim(fresh)}>
            Claim {many(fresh.length)}
          </Button>
          <span className="text-soft max-sm:hidden">Fresh from the factory: {fresh.length === 1 ? "it lets" : "they let"} anyone in.</span>
        </>
      ) : asks.length > 0 ? (
        <>
          <Button look={look} onClick={() => onAgree(asks)}>
            Agree to basic for {many(asks.length, "device")}
          </Button>
          <span className="text-soft max-sm:hidden">
            {asks.length === 1 ? "It takes" : "They take"} a sign-in only so that it can be read.
          </span>
        </>
      ) : apart.length > 0 ? (
        <>
          <Button look={look} onClick={() => onStreamUser(apart)}>
            Make a stream user on {many(apart.length)}
          </Button>
          <span className="text-soft max-sm:hidden">
            {apart.length === 1 ? "Its streams keep" : "Their streams keep"} users of their own.
          </span>
        </>
      ) : proven.length > 0 ? (
        <>
          <PlaceButton cameras={proven} recorders={recorders} go={go} busy={busy} next={!quiet} />
          <span className="text-soft max-sm:hidden">{proven.length === 1 ? "Its streams are" : "Their streams are"} proven.</span>
        </>
      ) : wantKey.length > 0 ? (
        <>
          <Button look={look} onClick={() => addSignIn(undefined, () => go(wantKey))}>
            <KeyRound size={15} /> Add a sign-in
          </Button>
          <span className="text-soft">
            {many(wantKey.length)} {wantKey.length === 1 ? "refuses" : "refuse"} the keyring.
          </span>
        </>
      ) : stuck.length > 0 ? (
        <span className="text-soft">{many(stuck.length)} stuck: choose one to see why.</span>
      ) : (
        <span className="text-open">Every latch is open.</span>
      )}
      <span className="grow" />
      {children}
    </div>
  );
}

/** Removes what is selected with its evidence. */
function ForgetButton({ devices }: { devices: Device[] }) {
  const { site } = useFrame();
  const forget = useForget(site.id);
  return (
    <Sure
      ask={`Forget ${devices.length} devices?`}
      more="What was recorded of them goes with them. Those that are still on the network are found anew by the next sweep."
      yes={`Forget ${devices.length} with their evidence`}
      onYes={() => forget.mutate(devices.map((d) => d.id))}
    >
      <Button look="quiet" disabled={forget.isPending}>
        Forget
      </Button>
    </Sure>
  );
}

/** Puts devices back to the addresses that they had before. */
function UndoAddresses({ devices }: { devices: Device[] }) {
  const { site } = useFrame();
  const send = useReaddress(site.id);
  const moved = devices.filter((d) => d.moved && !d.moved.failed && d.address === d.moved.after.addr);
  if (moved.length === 0 || moved.length < devices.length) return null;
  return (
    <Button
      disabled={send.isPending}
      onClick={() =>
        send.mutate(
          {
            title: `Undo the address change of ${moved.length === 1 ? moved[0]!.name : `${moved.length} devices`}`,
            lines: backToBefore(moved),
          },
          { onError: say },
        )
      }
    >
      Undo address change
    </Button>
  );
}

/** Places cameras on a recorder: the only one at once, of several the one chosen. */
function PlaceButton({
  cameras,
  recorders,
  go,
  busy,
  next,
}: {
  cameras: Device[];
  recorders: Device[];
  go: (list: Device[], target?: string) => void;
  busy: boolean;
  next?: boolean;
}) {
  const look = next ? "next" : "plain";
  const text = `Place ${cameras.length === 1 ? cameras[0]!.name : `${cameras.length} cameras`} on`;
  if (recorders.length === 0) return <span className="text-soft">No recorder is signed in to yet: open its latches first.</span>;
  if (recorders.length === 1)
    return (
      <Button look={look} disabled={busy} onClick={() => go(cameras, recorders[0]!.id)}>
        {text} {recorders[0]!.name}
      </Button>
    );
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <Button look={look} disabled={busy}>
          {text} …
        </Button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="start" sideOffset={4} className="z-50 min-w-48 rounded-md border bg-sheet p-1 shadow-xl">
          {recorders.map((r) => (
            <DropdownMenu.Item
              key={r.id}
              className="flex h-8 cursor-pointer items-center rounded-sm px-3 outline-none data-highlighted:bg-well"
              onSelect={() => go(cameras, r.id)}
            >
              {r.name}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

type RowsProps = {
  shown: Device[];
  chosen: string | null;
  selected: Set<string>;
  narrow: boolean;
  renaming: string | null;
  setRenaming: (id: string | null) => void;
  choose: (id: string) => void;
  toggle: (id: string) => void;
};

function Rows({ shown, chosen, selected, narrow, renaming, setRenaming, choose, toggle }: RowsProps) {
  const box = useRef<HTMLDivElement>(null);
  const phone = useMedia("(max-width: 767px)");
  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => box.current,
    estimateSize: () => (phone ? 76 : rowHeight),
    overscan: 12,
  });
  const index = shown.findIndex((d) => d.id === chosen);
  useEffect(() => {
    if (index >= 0) rows.scrollToIndex(index, { align: "auto" });
  }, [index, rows]);
  const tab = Math.max(index, 0); // the row that the Tab key comes to
  useGridFocus(box, tab);
  return (
    <div
      ref={box}
      className="min-h-0 grow overflow-auto [scrollbar-gutter:stable]"
      role="grid"
      aria-label="Cameras"
      aria-rowcount={shown.length}
    >
      <div className="relative" style={{ height: rows.getTotalSize() }}>
        {rows.getVirtualItems().map((v) => {
          const d = shown[v.index]!;
          const on = d.id === chosen;
          return (
            <div
              key={d.id}
              role="row"
              aria-selected={on}
              aria-rowindex={v.index + 1}
              data-device={d.name}
              data-at={d.at}
              data-index={v.index}
              tabIndex={v.index === tab ? 0 : -1}
              onKeyDown={onRow({ Enter: () => choose(d.id), " ": () => toggle(d.id) })}
              onClick={() => choose(d.id)}
              onDoubleClick={() => setRenaming(d.id)}
              className={`absolute inset-x-0 grid cursor-pointer grid-cols-[20px_96px_1fr] items-center gap-x-3 border-b px-4 ${columns(narrow)} ${on ? "bg-well" : "hover:bg-well/60"}`}
              style={{ transform: `translateY(${v.start}px)`, height: v.size }}
            >
              {on && <span aria-hidden className="absolute inset-y-0 left-0 w-1 bg-ink" />}
              <span role="gridcell">
                <Check checked={selected.has(d.id)} onChange={() => toggle(d.id)} label={`Select ${d.name}`} />
              </span>
              <span role="gridcell">
                <Still src={stillOf(d)} name={d.name} recorder={d.kind === "recorder"} className="h-14 w-24 md:h-8 md:w-14" />
              </span>
              <div role="gridcell" className="min-w-0">
                {renaming === d.id ? (
                  <RenameInput device={d} done={() => setRenaming(null)} />
                ) : (
                  <div className="truncate font-medium">{d.name}</div>
                )}
                <div className="truncate text-small leading-4 text-soft">
                  {d.via ? (
                    <>
                      channel {d.via.channel} of {d.via.name}
                    </>
                  ) : (
                    <span className="mono">{d.address}</span>
                  )}
                  {d.kind === "recorder" ? " · recorder" : d.model ? ` · ${d.model}` : ""}
                </div>
                <div className="mt-1 md:hidden">
                  <LatchChain latches={d.latches} />
                </div>
              </div>
              <span role="gridcell" className="max-md:hidden">
                <Standing device={d} />
              </span>
              {!narrow && (
                <>
                  <span role="gridcell" className="text-small max-md:hidden">
                    {d.kind === "camera" && <StreamLine stream={streamOf(d, "main")} />}
                  </span>
                  <span role="gridcell" className="text-small max-md:hidden">
                    {d.kind === "camera" && <StreamLine stream={streamOf(d, "sub")} />}
                  </span>
                </>
              )}
              <span role="gridcell" className="truncate text-small max-md:hidden">
                <Targets device={d} />
              </span>
            </div>
          );
        })}
      </div>
    </div>
  );
}

/** A recorder is a target: its eight latches end at "Signed in". */
function Standing({ device }: { device: Device }) {
  if (device.kind === "recorder" && device.next.action === "none") return <span className="text-small text-open">ready for cameras</span>;
  return <LatchChain latches={device.kind === "recorder" ? device.latches.slice(0, 3) : device.latches} />;
}

function Targets({ device }: { device: Device }) {
  return (
    <>
      {device.placements.map((p) => (
        <span key={p.target} className={p.diagnosis ? "text-stuck" : p.confirmed ? "" : "text-soft"}>
          {p.name} <span className="mono">{p.slot?.replace(/\D+0*/, "")}</span>
        </span>
      ))}
    </>
  );
}

function RenameInput({ device, done }: { device: Device; done: () => void }) {
  const { site } = useFrame();
  const rename = useRename(site.id);
  return (
    <input
      autoFocus
      aria-label={`Name of ${device.address}`}
      defaultValue={device.named ? device.name : ""}
      placeholder="What does it see?"
      className="h-6 w-full rounded-sm border bg-sheet px-1.5"
      onClick={(e) => e.stopPropagation()}
      onBlur={done}
      onKeyDown={(e) => {
        if (e.key === "Escape") done();
        if (e.key === "Enter") {
          rename.mutate({ device: device.id, name: e.currentTarget.value.trim() });
          done();
        }
      }}
    />
  );
}
