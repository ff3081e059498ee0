import type { Device, Target } from "@/api/client";
import { type TargetSecret, useAgreeForTarget } from "@/api/targets";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";

/** What may go to a target, for people. */
export const secretNames: Record<TargetSecret, string> = {
  sign_in: "Its own sign-in",
  camera_sign_ins: "The sign-ins of cameras",
  stream_key: "The stream key",
};

/**
 * Asks once, for a target, whether a secret may go to it so that it can be read; then the work goes on. It names what would be
 * sent, and to whom.
 */
export function TargetAgreeSheet({
  site,
  target: t,
  devices,
  onClose,
}: {
  site: string;
  target: Target;
  /** the cameras that wait for it */
  devices: Device[];
  onClose: () => void;
}) {
  const agree = useAgreeForTarget(site);
  // What a camera waits for now is newer than the target's view.
  const w = devices.find((d) => d.next.wanted?.target === t.id)?.next.wanted ?? t.wants;
  const secret = (w?.secret ?? "camera_sign_ins") as TargetSecret;
  const tls = Boolean(w?.certificate);
  const who = [t.about?.maker, t.about?.model, t.about?.serial && `serial number ${t.about.serial}`].filter(Boolean).join(" · ");
  const send = () =>
    agree.mutate(
      {
        target: t.id,
        secret,
        to: w?.at ? { at: w.at, certificate: w.certificate, scheme: w.scheme } : undefined,
        devices: devices.map((d) => d.id),
      },
      { onSuccess: onClose },
    );
  return (
    <Sheet title={`What may go to ${t.name}`} open onOpenChange={(o) => !o && onClose()}>
      <p>
        {tls
          ? `${t.name} shows a certificate that nobody has vouched for, or asks nobody for a sign-in.`
          : `${t.name} is reached without TLS.`}{" "}
        What it is given can be read by {tls ? "whoever answers there" : "whoever answers there, and by everybody on the way"}.
      </p>
      <section aria-label="What would be sent" className="mt-3">
        <h3 className="text-small text-soft">What would be sent</h3>
        <p className="font-semibold">{secretNames[secret]}</p>
        {secret === "camera_sign_ins" && (
          <ul className="mt-1">
            {t.hands.map((h) => (
              <li key={`${h.label} ${h.level}`}>
                {h.label} ({h.user}), for {h.cameras === 1 ? "1 camera" : `${h.cameras} cameras`}
                {h.level === "Administrator" && (
                  <span className="text-stuck"> · an administrator of theirs: a stream user would give less away</span>
                )}
              </li>
            ))}
          </ul>
        )}
      </section>
      <section aria-label="To whom" className="mt-3">
        <h3 className="text-small text-soft">To whom</h3>
        <p className="mono break-all">{w?.at ?? t.address}</p>
        {who && <p>{who}</p>}
        {tls && <p className="mono break-all text-small text-soft">SHA-256 {w?.certificate}</p>}
      </section>
      <p className="mt-3 border-l-4 border-stuck bg-paper px-3 py-2">
        Agree only where you know what answers there. Whoever answers in its place, with another certificate or another name, is asked about
        anew.
      </p>
      <p className="mt-3 text-small text-soft">
        Kept with your name. Only work that somebody begins sends it; you can take it back on the target’s page.
      </p>
      <Foot error={agree.error}>
        <Button onClick={onClose}>Leave it</Button>
        <Button look="next" disabled={agree.isPending || !w} onClick={send}>
          Agree and go on
        </Button>
      </Foot>
    </Sheet>
  );
}
