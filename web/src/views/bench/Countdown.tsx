import { useEffect, useState } from "react";

/** The time left until a moment, counted down by the second; "now" once it has come. */
export function Countdown({ until }: { until: string }) {
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const timer = window.setInterval(() => setNow(Date.now()), 500);
    return () => clearInterval(timer);
  }, []);
  return (
    <span role="timer" className="mono">
      {left(Date.parse(until) - now)}
    </span>
  );
}

/** 12:05, 1:02:00, now */
export function left(ms: number) {
  const s = Math.ceil(ms / 1000);
  if (s <= 0) return "now";
  const two = (n: number) => String(n).padStart(2, "0");
  const [h, m] = [Math.floor(s / 3600), Math.floor(s / 60) % 60];
  return h ? `${h}:${two(m)}:${two(s % 60)}` : `${m}:${two(s % 60)}`;
}
