import { playHLS } from "./hls";
import "./player.css";
import { Ended, type Way } from "./way";
import { playWebRTC } from "./whep";

const ways: Record<string, Way> = { webrtc: playWebRTC, hls: playHLS };
const again = 3_000;

const video = document.querySelector("video") as HTMLVideoElement;
const status = document.querySelector("[role=status]") as HTMLElement;

/** Plays by WebRTC, which is quickest, and by HLS where that does not get through; ?by=hls or ?by=webrtc asks for one of the two. */
async function play() {
  const asked = new URLSearchParams(location.search).get("by") ?? "";
  const order = ways[asked] ? [asked] : ["webrtc", "hls"];
  for (let at = 0; ; ) {
    const by = order[at] as string;
    let played = false;
    try {
      await (ways[by] as Way)(video, () => {
        played = true;
        status.textContent = "";
        document.body.dataset.plays = by;
      });
    } catch (e) {
      delete document.body.dataset.plays;
      if (e instanceof Ended && e.final) {
        status.textContent = e.message;
        return;
      }
      if (!played) at = (at + 1) % order.length;
      if (at === 0 || played) {
        status.textContent = "The picture does not come just now. It is asked for again.";
        await new Promise((done) => setTimeout(done, again));
      }
    }
  }
}

status.textContent = "The picture is on its way.";
void play();
