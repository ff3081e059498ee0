import { useEffect, useRef, useState } from "react";

type Word = { mime?: string; codec?: string; width?: number; height?: number; problem?: string; fix?: string; converted?: string };

/** How far the picture may lag behind what has come before it is brought to its end, in seconds. */
const lag = 1.2;

/**
 * A stream as it comes. Fragments go into Media Source, pictures into an image; the delay to what has come is kept small. It tells its own
 * delay, and in words why there is nothing to see.
 */
export function LivePicture({ device, role, name, className = "" }: { device: string; role: string; name: string; className?: string }) {
  const video = useRef<HTMLVideoElement>(null);
  const image = useRef<HTMLImageElement>(null);
  const [word, setWord] = useState<Word | null>(null);
  const [behind, setBehind] = useState<number | null>(null);
  const [trouble, setTrouble] = useState<{ text: string; fix?: string } | null>(null);

  useEffect(() => {
    let ended = false;
    let retry = 0;
    let socket: WebSocket | undefined;
    let source: MediaSource | undefined;
    let buffer: SourceBuffer | undefined;
    let queue: ArrayBuffer[] = [];
    let kind = "";
    let pictures: string[] = [];
    const forget = (url: string) => url && URL.revokeObjectURL(url);

    const feed = () => {
      const el = video.current;
      if (!buffer || buffer.updating || !el) return;
      try {
        const at = el.currentTime;
        if (buffer.buffered.length > 0 && at - buffer.buffered.start(0) > 30) return buffer.remove(0, at - 10);
        const next = queue.shift();
        if (next) buffer.appendBuffer(next);
      } catch {
        setTrouble({ text: "The browser cannot play this stream.", fix: "Its proof shows a still." });
      }
      const end = el.buffered.length > 0 ? el.buffered.end(el.buffered.length - 1) : 0;
      // A tab that slept, or a stream that ran ahead: what is shown goes to what has come last.
      if (end - el.currentTime > lag) el.currentTime = Math.max(0, end - 0.1);
      if (el.paused) el.play().catch(() => undefined);
    };

    const begin = (w: Word) => {
      setWord(w);
      setTrouble(null);
      kind = w.mime ?? "";
      queue = [];
      buffer = undefined;
      if (kind === "image/jpeg" || !video.current) return;
      if (!("MediaSource" in window) || !MediaSource.isTypeSupported(kind)) {
        setTrouble({ text: `This browser does not play ${w.codec}.`, fix: "Its proof shows a still." });
        return;
      }
      const fresh = new MediaSource();
      source = fresh;
      forget(video.current.src);
      video.current.src = URL.createObjectURL(fresh);
      fresh.addEventListener("sourceopen", () => {
        if (source !== fresh || fresh.readyState !== "open") return;
        buffer = fresh.addSourceBuffer(kind);
        buffer.mode = "segments";
        buffer.addEventListener("updateend", feed);
        feed();
      });
    };

    const connect = () => {
      if (ended) return;
      let said = false;
      const at = location.origin.replace(/^http/, "ws");
      socket = new WebSocket(`${at}/api/devices/${device}/live?role=${encodeURIComponent(role)}`);
      socket.binaryType = "arraybuffer";
      socket.onmessage = (e: MessageEvent<string | ArrayBuffer>) => {
        if (typeof e.data === "string") {
          const w = JSON.parse(e.data) as Word;
          if (w.problem) {
            said = true;
            setTrouble({ text: w.problem, fix: w.fix });
          } else begin(w);
          return;
        }
        if (kind === "image/jpeg") {
          const el = image.current;
          if (!el) return;
          const fresh = URL.createObjectURL(new Blob([e.data], { type: kind }));
          pictures.push(fresh);
          // The one before is let go only when this one is drawn, or the image would be empty for a moment.
          el.onload = el.onerror = () => {
            for (const url of pictures) if (url !== fresh) forget(url);
            pictures = pictures.filter((url) => url === fresh);
          };
          el.src = fresh;
          return;
        }
        queue.push(e.data);
        if (queue.length > 900) queue = queue.slice(0, 1); // what is not taken is not kept without end
        feed();
      };
      socket.onclose = () => {
        // A camera that restarts comes back; one that cannot be shown is not asked again and again.
        if (!ended && !said) {
          setTrouble({ text: "The picture stopped.", fix: "It is asked for again." });
          retry = window.setTimeout(connect, 1500);
        }
      };
    };
    connect();
    const clock = window.setInterval(() => {
      const el = video.current;
      if (el && el.buffered.length > 0) setBehind(el.buffered.end(el.buffered.length - 1) - el.currentTime);
    }, 500);
    return () => {
      ended = true;
      clearTimeout(retry);
      clearInterval(clock);
      socket?.close();
      if (video.current) forget(video.current.src);
      pictures.forEach(forget);
    };
  }, [device, role]);

  const still = word?.mime === "image/jpeg";
  return (
    <div
      className={`relative overflow-hidden rounded-sm bg-black ${className}`}
      data-live={trouble ? "trouble" : word ? "playing" : "waiting"}
    >
      {/* biome-ignore lint/a11y/useMediaCaption: a camera says nothing that could be written down */}
      <video
        ref={video}
        muted
        playsInline
        autoPlay
        aria-label={`${name}, live`}
        className={`h-full w-full object-contain ${still ? "hidden" : ""}`}
      />
      <img ref={image} alt={`${name}, live`} className={`h-full w-full object-contain ${still ? "" : "hidden"}`} />
      {trouble ? (
        <p role="alert" className="absolute inset-x-0 bottom-0 bg-black/75 px-3 py-2 text-small text-white">
          {trouble.text} {trouble.fix}
        </p>
      ) : !word ? (
        <p role="status" className="absolute inset-0 grid place-items-center text-small text-white">
          Waiting for a key frame …
        </p>
      ) : (
        <p className="mono absolute bottom-1 left-1 rounded-sm bg-black/65 px-1.5 text-tiny text-white">
          {word.converted ? `shown converted; the stream itself is ${word.converted}` : "live"}
          {behind !== null && !still ? ` · ${behind.toFixed(1)} s in hand` : ""}
        </p>
      )}
    </div>
  );
}
