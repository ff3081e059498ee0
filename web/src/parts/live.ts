/** What the server says in words of a stream that is looked at; see server/live.go. */
export type LiveWord = {
  mime?: string;
  codec?: string;
  width?: number;
  height?: number;
  converted?: string;
  rate?: number;
  channels?: number;
  problem?: string;
  fix?: string;
  again?: boolean;
  measures?: Measure[];
};

/** What came in one second of a stream. */
export type Measure = { at: number; kbps: number; fps: number; keys: number[]; lost: number };

export type Trouble = { text: string; fix?: string };

export type Looking = {
  begin: (w: LiveWord) => void;
  data: (b: ArrayBuffer) => void;
  measures?: (list: Measure[]) => void;
  /** Why nothing comes, or null when it does again. */
  trouble: (t: Trouble | null) => void;
};

/**
 * How long a hidden page keeps its stream: a glance at another tab costs nothing, a tab that is left alone holds no session of a
 * camera.
 */
const asleepAfter = 20_000;

/** Pauses before a connection that broke is made anew, in ms; the last is kept to. */
const pauses = [500, 1500, 3000, 6000];

/** Opens a stream and keeps it open: after a break, after the page slept. Returns what ends it. */
export function openLive(device: string, query: Record<string, string>, to: Looking): () => void {
  let socket: WebSocket | undefined;
  let ended = false;
  let final = false; // it cannot be shown, and is not asked for again and again
  let tries = 0;
  let retry = 0;
  let sleep = 0;

  const connect = () => {
    if (ended || final) return;
    const at = location.origin.replace(/^http/, "ws");
    const mine = new WebSocket(`${at}/api/devices/${device}/live?${new URLSearchParams(query)}`);
    socket = mine;
    mine.binaryType = "arraybuffer";
    mine.onmessage = (e: MessageEvent<string | ArrayBuffer>) => {
      if (mine !== socket) return;
      if (typeof e.data !== "string") return to.data(e.data);
      const w = JSON.parse(e.data) as LiveWord;
      if (w.measures) return to.measures?.(w.measures);
      if (w.problem) {
        final = !w.again;
        return to.trouble({ text: w.problem, fix: w.fix });
      }
      tries = 0;
      to.trouble(null);
      to.begin(w);
    };
    mine.onclose = () => {
      if (ended || final || mine !== socket) return;
      if (tries > 0) to.trouble({ text: "The picture stopped.", fix: "It is asked for again." });
      retry = window.setTimeout(connect, pauses[Math.min(tries++, pauses.length - 1)]);
    };
  };
  const close = () => {
    clearTimeout(retry);
    const old = socket;
    socket = undefined;
    old?.close();
  };
  const turned = () => {
    clearTimeout(sleep);
    if (document.hidden) {
      sleep = window.setTimeout(close, asleepAfter);
    } else if (!socket) {
      connect();
    }
  };
  document.addEventListener("visibilitychange", turned);
  connect();
  return () => {
    ended = true;
    clearTimeout(sleep);
    document.removeEventListener("visibilitychange", turned);
    close();
  };
}

/** Whether this browser plays H.265; whether it does so in truth shows when it tries. */
export const playsH265 = () => typeof MediaSource !== "undefined" && MediaSource.isTypeSupported('video/mp4; codecs="hvc1.1.6.L93.B0"');

/** The plain name of the codec of a sound that no browser plays; undefined where there is sound to play. */
export const unheard = (w: LiveWord) =>
  w.mime === "audio/none" ? (w.codec ? `Browsers do not play ${w.codec}.` : "The stream has no sound.") : undefined;

/** How long what is measured lags behind the quickest that came, in ms: what the network and this machine add at the moment. */
export function lagOf(seen: { least: number }, m: Measure, now = Date.now()) {
  const late = now - m.at;
  seen.least = Math.min(seen.least, late);
  return late - seen.least;
}
