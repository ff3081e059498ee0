import { Camera, Maximize, Pause, Play, Volume2, VolumeX, ZoomIn, ZoomOut } from "lucide-react";
import { useEffect, useRef, useState, type ReactNode } from "react";
import { toast } from "sonner";
import { lagOf, type LiveWord, type Measure, openLive, playsH265, type Trouble, unheard } from "./live";
import { playFragments, playSamples, showPictures } from "./liveMedia";
import { saveBlob } from "./save";
import { useZoom } from "./zoom";

type Props = {
  device: string;
  role: string;
  name: string;
  className?: string;
  /** The buttons on the picture: those of the Watch view, or none. */
  tools?: boolean;
  /** Whether the stream has sound, as far as is known. */
  sound?: boolean;
  onMeasures?: (list: Measure[]) => void;
  /** What stands over the picture besides: a walk test's number. */
  children?: ReactNode;
};

/**
 * A stream as it comes. Fragments go into Media Source, pictures into an image; the delay to what has come is kept small. It tells its own
 * delay, and in words why there is nothing to see. What the browser does not play after all comes converted.
 */
export function LivePicture({ device, role, name, className = "", tools, sound, onMeasures, children }: Props) {
  const frame = useRef<HTMLDivElement>(null);
  const video = useRef<HTMLVideoElement>(null);
  const image = useRef<HTMLImageElement>(null);
  const players = useRef<{ hold: (on: boolean) => void }[]>([]);
  const [word, setWord] = useState<LiveWord | null>(null);
  const [behind, setBehind] = useState<number | null>(null);
  const [trouble, setTrouble] = useState<Trouble | null>(null);
  const [made, setMade] = useState(false);
  const [frozen, setFrozen] = useState(false);
  const [listening, setListening] = useState(false);
  const told = useRef(onMeasures);
  told.current = onMeasures;
  const zoom = useZoom(frame);

  useEffect(() => {
    let kind = "";
    const seen = { least: Number.POSITIVE_INFINITY };
    let late = 0;
    const film = playFragments(video.current!, () => {
      if (made) setTrouble({ text: "The browser cannot play this stream.", fix: "Its proof shows a still." });
      else setMade(true);
    });
    const pictures = showPictures(image.current!);
    players.current = [film, pictures];
    const end = openLive(
      device,
      { role, ...(made ? { made: "1" } : playsH265() ? { h265: "1" } : {}) },
      {
        begin: (w) => {
          setWord(w);
          kind = w.mime ?? "";
          if (kind !== "image/jpeg") film.begin(kind);
        },
        data: (b) => (kind === "image/jpeg" ? pictures : film).data(b),
        measures: (list) => {
          const newest = list.at(-1);
          if (newest && list.length === 1) late = lagOf(seen, newest);
          told.current?.(list);
        },
        trouble: setTrouble,
      },
    );
    const clock = window.setInterval(() => setBehind((kind === "image/jpeg" ? 0 : film.inHand()) + late / 1000), 500);
    return () => {
      clearInterval(clock);
      end();
      film.close();
      pictures.close();
    };
  }, [device, role, made]);

  useEffect(() => {
    for (const p of players.current) p.hold(frozen);
  }, [frozen]);
  useSound(listening ? device : undefined, role, () => setListening(false));

  const still = word?.mime === "image/jpeg";
  const snapshot = () => {
    const el = still ? image.current : video.current;
    if (el) saveSnapshot(el, name);
  };
  return (
    <div
      ref={frame}
      className={`group relative overflow-hidden rounded-sm bg-black ${className}`}
      data-live={trouble ? "trouble" : word ? "playing" : "waiting"}
    >
      <video
        ref={video}
        muted
        playsInline
        autoPlay
        aria-label={`${name}, live`}
        style={zoom.style}
        className={`h-full w-full object-contain ${still ? "hidden" : ""}`}
      />
      <img
        ref={image}
        alt={`${name}, live`}
        draggable={false}
        style={zoom.style}
        className={`h-full w-full object-contain ${still ? "" : "hidden"}`}
      />
      {children}
      {trouble ? (
        <p role="alert" className="absolute inset-x-0 bottom-0 bg-black/75 px-3 py-2 text-small text-white">
          {trouble.text} {trouble.fix}
        </p>
      ) : !word ? (
        <p role="status" className="absolute inset-0 grid place-items-center text-small text-white">
          Waiting for a key frame …
        </p>
      ) : (
        // At the right, where cameras seldom draw their name.
        <div className="pointer-events-none absolute right-1 bottom-1 left-1 flex items-end justify-end text-white max-sm:flex-col">
          <p className="mono flex min-h-5 flex-col justify-center rounded-sm bg-black/65 px-1.5 text-right text-tiny">
            {word.converted && <span>shown converted; the stream itself is {word.converted}</span>}
            <span>
              {frozen ? "frozen" : "live"}
              {behind !== null && !frozen && ` · ${Math.max(0, behind).toFixed(1)} s behind`}
              {zoom.view.scale > 1 && ` · ${zoom.view.scale.toFixed(1)}×`}
            </span>
          </p>
          {tools && (
            <div className="pointer-events-auto flex overflow-hidden rounded-sm bg-black/65">
              <Tool label={frozen ? "Go on" : "Freeze"} keys="F" onClick={() => setFrozen(!frozen)}>
                {frozen ? <Play size={15} /> : <Pause size={15} />}
              </Tool>
              <Tool label="Save this picture as a file" onClick={snapshot}>
                <Camera size={15} />
              </Tool>
              {sound && (
                <Tool label={listening ? "Sound off" : "Sound on"} onClick={() => setListening(!listening)}>
                  {listening ? <Volume2 size={15} /> : <VolumeX size={15} />}
                </Tool>
              )}
              <Tool label="Zoom in" onClick={() => zoom.by(1.6)}>
                <ZoomIn size={15} />
              </Tool>
              <Tool label="Zoom out" onClick={() => zoom.by(1 / 1.6)}>
                <ZoomOut size={15} />
              </Tool>
              <Tool
                label="Full screen"
                onClick={() => void (document.fullscreenElement ? document.exitFullscreen() : frame.current?.requestFullscreen())}
              >
                <Maximize size={15} />
              </Tool>
            </div>
          )}
        </div>
      )}
    </div>
  );
}

function Tool({ label, keys, onClick, children }: { label: string; keys?: string; onClick: () => void; children: ReactNode }) {
  return (
    <button
      type="button"
      aria-label={label}
      title={keys ? `${label} (${keys})` : label}
      data-tool={label}
      onClick={onClick}
      onDoubleClick={(e) => e.stopPropagation()}
      className="grid size-8 place-items-center hover:bg-white/20 focus-visible:outline-white max-sm:size-10"
    >
      {children}
    </button>
  );
}

/** Saves what is shown as a PNG file in the stream's own size. */
function saveSnapshot(el: HTMLVideoElement | HTMLImageElement, name: string) {
  const canvas = document.createElement("canvas");
  canvas.width = el instanceof HTMLVideoElement ? el.videoWidth : el.naturalWidth;
  canvas.height = el instanceof HTMLVideoElement ? el.videoHeight : el.naturalHeight;
  canvas.getContext("2d")?.drawImage(el, 0, 0);
  const at = new Date().toISOString().slice(0, 19).replaceAll(":", "");
  canvas.toBlob((blob) => {
    if (!blob) return void toast.error("The picture cannot be saved: nothing is shown yet.");
    saveBlob(`${name} ${at}.png`, blob);
  }, "image/png");
}

/** Lets hear the sound of a stream, until it is switched off or there is none. */
function useSound(device: string | undefined, role: string, off: () => void) {
  const latest = useRef(off);
  latest.current = off;
  useEffect(() => {
    if (!device) return;
    let player: { data: (b: ArrayBuffer) => void; close: () => void } | undefined;
    const none = (text: string) => {
      toast.error(text);
      latest.current();
    };
    const end = openLive(
      device,
      { role, sound: "1" },
      {
        begin: (w) => {
          player?.close();
          const why = unheard(w);
          if (why) return none(why);
          if (w.mime === "audio/pcm") player = playSamples(w.rate ?? 8000, w.channels ?? 1);
          else {
            const film = playFragments(new Audio(), () => none(`This browser does not play ${w.codec}.`));
            film.begin(w.mime ?? "");
            player = film;
          }
        },
        data: (b) => player?.data(b),
        trouble: (t) => t && toast.error(`${t.text} ${t.fix ?? ""}`),
      },
    );
    return () => {
      end();
      player?.close();
    };
  }, [device, role]);
}
