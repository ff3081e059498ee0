import { ArrowLeft, ArrowRight, X } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { useRename } from "@/api/actions";
import type { Device, Stream } from "@/api/client";
import { Button } from "@/parts/Button";
import { useKeys } from "@/parts/keys";
import { watchable } from "@/parts/latches";
import { LivePicture } from "@/parts/LivePicture";
import { LivePlot, measuredNow, rolling } from "./LivePlot";
import type { Measure } from "@/parts/live";
import { bitrate, stillOf, stillUrl } from "@/parts/measures";
import { Still } from "@/parts/Still";
import { WhichMenu } from "@/parts/WhichMenu";
import { StillMarked } from "@/parts/Findings";
import { useFrame } from "@/parts/useFrame";
import { WalkTest } from "./WalkTest";

/** Moving pictures: one camera large with its streams side by side, or a few for a walk test. */
export function Watch() {
  const { site, devices } = useFrame();
  const [params, setParams] = useSearchParams();
  const list = devices.filter(watchable);
  const walk = (params.get("walk") ?? "").split(",").filter(Boolean);
  const walked = list.filter((d) => walk.includes(d.id)).slice(0, 9);
  const naming = params.has("naming");
  const row = naming ? list.filter((d) => !d.named || d.id === params.get("device")) : list;
  const current = row.find((d) => d.id === params.get("device")) ?? row[0];

  if (walk.length > 0)
    return <WalkTest cameras={walked} onLarge={(d) => setParams({ device: d.id, from: walk.join(",") })} onEnd={() => setParams({})} />;
  if (!current)
    return (
      <div className="grid h-full place-items-center p-6 text-center">
        <div>
          <p className="mb-1 text-lg">{naming ? "Every camera has a name" : "No camera to look at yet"}</p>
          <p className="mb-5 text-soft">
            {naming ? "Those that play are all named." : "A camera moves here once one of its streams is proven."}
          </p>
          <Link to={naming ? "?" : `/sites/${site.id}`} className="underline">
            {naming ? "Look at the cameras" : "To the line-up"}
          </Link>
        </div>
      </div>
    );
  return (
    <One
      key={current.id}
      device={current}
      row={row}
      naming={naming}
      back={params.get("from")}
      onChoose={(id) => setParams({ device: id, ...(naming ? { naming: "1" } : {}) }, { replace: true })}
      onBack={(from) => setParams({ walk: from })}
      onNaming={(on) => setParams(on ? { naming: "1" } : { device: current.id })}
    />
  );
}

type OneProps = {
  device: Device;
  row: Device[];
  naming: boolean;
  back: string | null;
  onChoose: (id: string) => void;
  onBack: (from: string) => void;
  onNaming: (on: boolean) => void;
};

/** One camera, its main stream large and its sub stream beside it, each with what it measures now. */
function One({ device: d, row, naming, back, onChoose, onBack, onNaming }: OneProps) {
  const { site, devices } = useFrame();
  const at = row.findIndex((x) => x.id === d.id);
  const step = (by: number) => {
    const to = row[at + by];
    if (to) onChoose(to.id);
  };
  const plays = d.streams.filter((s) => s.proof?.ok);
  // The line from a site far away may be slow: the small picture comes first there, and others when they are asked for.
  const [large, setLarge] = useState(((site.far && plays.find((s) => s.role === "sub")) || plays[0])?.role ?? "main");
  const main = plays.find((s) => s.role === large) ?? plays[0]!;
  const beside = plays.filter((s) => s !== main);
  const unnamed = devices.filter((x) => watchable(x) && !x.named);
  useKeys({
    ArrowRight: () => step(1),
    ArrowLeft: () => step(-1),
    f: () => document.querySelector<HTMLElement>('[data-large] [data-tool="Freeze"], [data-large] [data-tool="Go on"]')?.click(),
    Escape: () => back && onBack(back),
  });
  return (
    <div className="flex h-full flex-col" data-watching={d.id}>
      <div className="flex min-h-12 shrink-0 flex-wrap items-center gap-2 border-b px-4 py-2">
        {back && (
          <Button look="quiet" className="-ml-2 px-2" onClick={() => onBack(back)} title="Back to the walk test (Esc)">
            <ArrowLeft size={16} /> Walk test
          </Button>
        )}
        <Button
          look="quiet"
          className="px-1.5"
          aria-label="The camera before"
          title="The camera before (←)"
          disabled={at <= 0}
          onClick={() => step(-1)}
        >
          <ArrowLeft size={16} />
        </Button>
        <Button
          look="quiet"
          className="px-1.5"
          aria-label="The next camera"
          title="The next camera (→)"
          disabled={at >= row.length - 1}
          onClick={() => step(1)}
        >
          <ArrowRight size={16} />
        </Button>
        {naming ? (
          <NameByLooking
            device={d}
            left={unnamed.length}
            onNext={() => (row[at + 1] ? step(1) : onNaming(true))}
            onEnd={() => onNaming(false)}
          />
        ) : (
          <>
            <h2 className="truncate text-lg font-semibold">{d.name}</h2>
            <span className="mono text-soft max-sm:hidden">{d.via ? `channel ${d.via.channel} of ${d.via.name}` : d.address}</span>
            <span className="grow" />
            {unnamed.length > 0 && (
              <Button look="next" onClick={() => onNaming(true)}>
                Name {unnamed.length} {unnamed.length === 1 ? "camera" : "cameras"} by looking
              </Button>
            )}
            <WhichMenu site={site.id} cameras={[d]} />
            <Link
              to={`/sites/${site.id}?device=${d.id}`}
              className="inline-flex h-8 items-center rounded-md border bg-sheet px-3 hover:bg-well"
            >
              Its bench
            </Link>
          </>
        )}
      </div>
      <div className="grid min-h-0 grow content-start gap-4 overflow-auto p-4 max-sm:p-0 lg:flex lg:items-start">
        <div className="min-w-0 lg:w-[min(66vw,calc((100vh-390px)*16/9))] lg:min-w-[480px]">
          <StillMarked device={d} />
          <Streaming key={main.role} device={d} stream={main} large />
        </div>
        {beside.length > 0 && (
          <div className="grid min-w-0 content-start gap-4 sm:max-lg:grid-cols-2 lg:max-w-[480px] lg:flex-1">
            {beside.map((s) => (
              <Beside key={s.role} device={d} stream={s} asked={!site.far} onLarge={() => setLarge(s.role)} />
            ))}
            <p className="text-small text-soft">
              Plots show the last minute: bars are kbit/s, the line frames a second, ticks below key frames. A second in which packets were
              lost is red.
            </p>
          </div>
        )}
      </div>
      <Strip row={row} current={d.id} onChoose={onChoose} />
    </div>
  );
}

/** A stream beside the large one: it moves, or waits as a still until it is asked for. */
function Beside({ asked, ...p }: { device: Device; stream: Stream; asked: boolean; onLarge: () => void }) {
  const [plays, setPlays] = useState(asked);
  if (plays) return <Streaming {...p} />;
  const { device: d, stream: s } = p;
  return (
    <section aria-label={`${s.role} stream`} data-stream={s.role} className="min-w-0">
      <Still
        src={s.proof?.still ? stillUrl(s.proof.still) : undefined}
        name={`${d.name}, ${s.role} stream`}
        className="aspect-video w-full"
      />
      <div className="mt-1.5 flex flex-wrap items-center gap-x-3 max-sm:px-4">
        <h3 className="font-semibold">{s.role}</h3>
        <Button onClick={() => setPlays(true)}>Play it too</Button>
        <span className="text-small text-soft">
          This site is far away: {s.proof?.video ? bitrate(s.proof.video.bitrate_kbps) : "more"} over its line.
        </span>
      </div>
    </section>
  );
}

/** One stream that moves, with its last minute. */
function Streaming({ device: d, stream: s, large, onLarge }: { device: Device; stream: Stream; large?: boolean; onLarge?: () => void }) {
  const [list, setList] = useState<Measure[]>([]);
  const now = measuredNow(list);
  const v = s.proof?.video;
  return (
    <section aria-label={`${s.role} stream`} data-stream={s.role} data-large={large || undefined} className="min-w-0">
      <LivePicture
        device={d.id}
        role={s.role}
        name={`${d.name}, ${s.role} stream`}
        tools
        sound={!!s.proof?.audio}
        onMeasures={(fresh) => setList((before) => rolling(before, fresh))}
        className={large ? "aspect-video w-full max-sm:rounded-none" : "aspect-video w-full"}
      />
      <div className="mt-1.5 flex flex-wrap items-baseline gap-x-3 max-sm:px-4">
        <h3 className="font-semibold">{s.role}</h3>
        {onLarge && (
          <button type="button" className="text-small underline hover:text-ink" onClick={onLarge}>
            Show it large
          </button>
        )}
        <span className={`mono ${large ? "" : "basis-full"}`}>
          {v && `${v.codec} ${v.width}×${v.height}`}
          {now && ` · ${now.fps.toFixed(now.fps < 10 ? 1 : 0)} fps · ${bitrate(now.kbps)}`}
          {now?.every !== undefined && now.every > 0.3 && ` · key frame every ${now.every.toFixed(1)} s`}
          {now && now.lost > 0 && <span className="font-semibold text-stuck"> · {now.lost} packets lost</span>}
        </span>
      </div>
      <LivePlot list={list} label={`${s.role} stream, last minute`} />
    </section>
  );
}

/** The name of a camera, typed while it is seen. Enter goes to the next. */
function NameByLooking({ device: d, left, onNext, onEnd }: { device: Device; left: number; onNext: () => void; onEnd: () => void }) {
  const { site } = useFrame();
  const rename = useRename(site.id);
  const input = useRef<HTMLInputElement>(null);
  const [was] = useState(d.named ? d.name : "");
  const [text, setText] = useState(was);
  useEffect(() => {
    input.current?.focus();
  }, []);
  return (
    <form
      className="flex grow flex-wrap items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        const name = text.trim();
        if (name === "") return;
        rename.mutate({ device: d.id, name, was }, { onSuccess: onNext });
      }}
    >
      <input
        ref={input}
        value={text}
        maxLength={100}
        onChange={(e) => setText(e.target.value)}
        aria-label="What does it see?"
        placeholder="What does it see?"
        className="h-9 w-72 max-w-full rounded-md border bg-sheet px-2 text-lead"
      />
      <Button look="next" type="submit" disabled={text.trim() === "" || rename.isPending}>
        Name it, next (Enter)
      </Button>
      <Button onClick={onNext}>Skip</Button>
      <span className="num text-soft">
        {left} without a name; now <span className="mono">{d.via ? `channel ${d.via.channel} of ${d.via.name}` : d.address}</span>
      </span>
      <span className="grow" />
      <Button look="quiet" aria-label="End naming" title="End naming" className="px-2" onClick={onEnd}>
        <X size={16} />
      </Button>
    </form>
  );
}

/** The cameras in a row, to go from one to another. */
function Strip({ row, current, onChoose }: { row: Device[]; current: string; onChoose: (id: string) => void }) {
  const mark = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    mark.current?.scrollIntoView({ block: "nearest", inline: "center" }); // newer browsers return a promise, which is no clean-up
  }, []);
  return (
    <nav aria-label="Cameras" className="flex shrink-0 gap-2 overflow-x-auto border-t bg-sheet px-4 py-2">
      {row.map((d) => (
        <button
          key={d.id}
          ref={d.id === current ? mark : undefined}
          type="button"
          aria-current={d.id === current}
          onClick={() => onChoose(d.id)}
          className="w-24 shrink-0 rounded-sm border-b-2 border-transparent text-left text-small aria-[current=true]:border-ink
            aria-[current=true]:font-semibold"
        >
          <Still src={stillOf(d)} name="" className="aspect-video w-24" />
          <span className="mt-0.5 block truncate">{d.name}</span>
        </button>
      ))}
    </nav>
  );
}
