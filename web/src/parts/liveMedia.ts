/** How far the picture may lag behind what has come before it is brought to its end, in seconds. */
const lag = 1.2;

/** Fragments that wait for the browser before it counts as one that takes none. */
const most = 900;

/** Plays fragments of MP4 in a media element, close behind what comes. `broken` is called when the browser does not play them after all. */
export function playFragments(el: HTMLMediaElement, broken: () => void) {
  let source: MediaSource | undefined;
  let buffer: SourceBuffer | undefined;
  let queue: ArrayBuffer[] = [];
  let held = false;

  const end = () => (el.buffered.length > 0 ? el.buffered.end(el.buffered.length - 1) : 0);
  const feed = () => {
    if (!buffer || buffer.updating) return;
    try {
      const at = el.currentTime;
      if (buffer.buffered.length > 0 && at - buffer.buffered.start(0) > 30) return buffer.remove(0, at - 10);
      const next = queue.shift();
      if (next) buffer.appendBuffer(next);
    } catch {
      return broken();
    }
    if (held) return;
    // A tab that slept, or a stream that ran ahead: what is shown goes to what has come last.
    if (end() - el.currentTime > lag) el.currentTime = Math.max(0, end() - 0.1);
    if (el.paused) el.play().catch(() => undefined);
  };
  el.onerror = () => source && broken();

  const forget = () => {
    if (el.src) URL.revokeObjectURL(el.src);
  };
  return {
    begin(mime: string) {
      queue = [];
      buffer = undefined;
      if (typeof MediaSource === "undefined" || !MediaSource.isTypeSupported(mime)) return broken();
      const fresh = new MediaSource();
      source = fresh;
      forget();
      el.src = URL.createObjectURL(fresh);
      fresh.addEventListener("sourceopen", () => {
        if (source !== fresh || fresh.readyState !== "open") return;
        try {
          buffer = fresh.addSourceBuffer(mime);
        } catch {
          return broken(); // it said that it plays this, and does not
        }
        buffer.mode = "segments";
        buffer.addEventListener("updateend", feed);
        feed();
      });
    },
    data(b: ArrayBuffer) {
      queue.push(b);
      if (queue.length > most) queue = queue.slice(0, 1); // what is not taken is not kept without end
      feed();
    },
    /** Freezes what is shown, or goes on where the stream is by now. */
    hold(on: boolean) {
      held = on;
      if (on) el.pause();
      else feed();
    },
    /** Seconds that have come and are not shown yet. */
    inHand: () => (el.buffered.length > 0 ? end() - el.currentTime : 0),
    close() {
      source = undefined;
      el.onerror = null;
      forget();
      el.removeAttribute("src");
    },
  };
}

/** Shows pictures one by one in an image. */
export function showPictures(el: HTMLImageElement) {
  let urls: string[] = [];
  let held = false;
  const forget = (but?: string) => {
    for (const url of urls) if (url !== but) URL.revokeObjectURL(url);
    urls = urls.filter((url) => url === but);
  };
  return {
    data(b: ArrayBuffer) {
      if (held) return;
      const fresh = URL.createObjectURL(new Blob([b], { type: "image/jpeg" }));
      urls.push(fresh);
      // The one before is let go only when this one is drawn, or the image would be empty for a moment.
      el.onload = el.onerror = () => forget(fresh);
      el.src = fresh;
    },
    hold: (on: boolean) => {
      held = on;
    },
    close: () => forget(),
  };
}

/** Plays 16-bit samples as they come, one piece after the other. */
export function playSamples(rate: number, channels: number) {
  const context = new AudioContext();
  let next = 0;
  return {
    data(b: ArrayBuffer) {
      const samples = new Int16Array(b);
      const frames = Math.floor(samples.length / channels);
      if (frames === 0) return;
      const piece = context.createBuffer(channels, frames, rate);
      for (let c = 0; c < channels; c++) {
        const out = piece.getChannelData(c);
        for (let i = 0; i < frames; i++) out[i] = samples[i * channels + c]! / 32768;
      }
      const now = context.currentTime;
      // What is late, or far ahead since the page slept, begins a little after now.
      if (next < now || next > now + 1) next = now + 0.15;
      const node = context.createBufferSource();
      node.buffer = piece;
      node.connect(context.destination);
      node.start(next);
      next += frames / rate;
    },
    close: () => void context.close(),
  };
}
