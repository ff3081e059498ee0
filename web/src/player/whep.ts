import { Ended, type Way } from "./way";

const answerBy = 8_000; // ms, for the first picture

/** Plays by WebRTC (WHEP): an offer is posted, and what comes back is the answer. */
export const playWebRTC: Way = async (video, started) => {
  const peer = new RTCPeerConnection();
  const stream = new MediaStream();
  let session = "";
  const broken = new Promise<never>((_, fail) => {
    const late = setTimeout(() => fail(new Ended("no picture came by WebRTC")), answerBy);
    video.addEventListener(
      "timeupdate",
      () => {
        clearTimeout(late);
        started();
      },
      { once: true },
    );
    peer.onconnectionstatechange = () => {
      if (peer.connectionState === "failed" || peer.connectionState === "closed" || peer.connectionState === "disconnected")
        fail(new Ended("the connection broke off"));
    };
  });
  broken.catch(() => {}); // it is waited for below, once the offer is answered
  try {
    peer.ontrack = (e) => stream.addTrack(e.track);
    peer.addTransceiver("video", { direction: "recvonly" });
    peer.addTransceiver("audio", { direction: "recvonly" });
    await peer.setLocalDescription();
    const answer = await fetch("whep", {
      method: "POST",
      headers: { "Content-Type": "application/sdp" },
      body: peer.localDescription?.sdp ?? "",
    });
    const text = await answer.text();
    if (!answer.ok) throw new Ended(text.trim(), answer.status === 410 || answer.status === 404);
    session = answer.headers.get("Location") ?? "";
    await peer.setRemoteDescription({ type: "answer", sdp: text });
    video.srcObject = stream;
    await video.play().catch(() => {});
    return await broken;
  } finally {
    peer.close();
    video.srcObject = null;
    if (session) void fetch(session, { method: "DELETE", keepalive: true }).catch(() => {});
  }
};
