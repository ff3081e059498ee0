import Hls from "hls.js/light";
import { Ended, type Way } from "./way";

const playlist = "index.m3u8";
const firstBy = 20_000; // ms, for the first picture

/** Plays by HLS: with parts for low latency where the browser has Media Source, else as the browser itself does it. */
export const playHLS: Way = async (video, started) => {
  const first = await fetch(playlist, { method: "HEAD" });
  if (first.status === 410 || first.status === 404) throw new Ended("This address has ended or is not known.", true);
  const hls = Hls.isSupported() ? new Hls({ lowLatencyMode: true, backBufferLength: 30, maxLiveSyncPlaybackRate: 1.3 }) : undefined;
  try {
    return await new Promise<never>((_, fail) => {
      const late = setTimeout(() => fail(new Ended("no picture came by HLS")), firstBy);
      video.addEventListener(
        "timeupdate",
        () => {
          clearTimeout(late);
          started();
        },
        { once: true },
      );
      video.addEventListener("ended", () => fail(new Ended("the stream ended")), { once: true });
      if (hls) {
        hls.on(Hls.Events.ERROR, (_, e) => {
          if (e.fatal) fail(new Ended(e.details, e.response?.code === 410));
        });
        hls.loadSource(playlist);
        hls.attachMedia(video);
      } else {
        video.addEventListener("error", () => fail(new Ended("the browser does not play it")), { once: true });
        video.src = playlist;
      }
      video.play().catch(() => {});
    });
  } finally {
    hls?.destroy();
    video.removeAttribute("src");
  }
};
