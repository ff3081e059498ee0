import { type ReactNode, useState } from "react";
import type { Device, Stream } from "@/api/client";
import { type Shape, usePutRelay, useRelayCost, useRelays } from "@/api/relays";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { Foot } from "@/parts/Foot";
import { RelayCost } from "@/parts/RelayCost";
import { relayPath } from "@/parts/relaypath";
import { Sheet } from "@/parts/Sheet";

type Props = { site: string; device: Device; stream: Stream; onClose: () => void };

/** Has a stream served on, with a sign-in of its own, as it comes or turned into another form. */
export function RelaySheet({ site, device, stream, onClose }: Props) {
  const [whom, setWhom] = useState("");
  const [path, setPath] = useState(relayPath(device.name, stream.role));
  const [always, setAlways] = useState(false);
  const [face, setFace] = useState(false);
  const [form, setForm] = useState<Shape>({});
  const [page, setPage] = useState(false);
  const { faces, pages } = useRelays(site).data ?? {};
  const put = usePutRelay(site);
  const role = stream.role as "main" | "sub" | "third";
  const cost = useRelayCost(site, device.id, role, form).data;
  const converted = Object.keys(form).length > 0;
  return (
    <Sheet title={`Serve the ${stream.role} stream on`} open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate(
            { id: crypto.randomUUID(), device: device.id, relay: { role, path, for: whom, always, face, page, form } },
            { onSuccess: onClose },
          );
        }}
      >
        <p>
          A worker takes the stream of {device.name} once and hands it on to whoever signs in with a user and a password that are made for
          this alone.
        </p>
        <Field label="Who takes it" name="for" placeholder="Parcel vault" value={whom} onChange={(e) => setWhom(e.target.value)} />
        <Field label="Path behind the worker’s address" name="path" mono value={path} onChange={(e) => setPath(e.target.value)} />
        <FormFields form={form} onChange={setForm} />
        {converted && cost && (
          <p className="border-y py-2">
            Costs <RelayCost cost={cost} />
          </p>
        )}
        <label className="flex items-center gap-2">
          <Check checked={always} label="Always on" onChange={() => setAlways(!always)} /> Always on: the camera is played also while nobody
          takes it
        </label>
        {faces && (
          <label className="flex items-center gap-2">
            <Check checked={face} label="With an ONVIF face" onChange={() => setFace(!face)} /> With an ONVIF face: a recorder that takes
            nothing else finds it by searching
          </label>
        )}
        {pages && (
          <label className="flex items-center gap-2">
            <Check checked={page} label="For web pages" onChange={() => setPage(!page)} /> For web pages: HLS and WebRTC, at addresses that
            end
          </label>
        )}
        <Foot error={put.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={put.isPending || !whom.trim() || !path || (converted && !!cost?.problem)}>
            Serve it on
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}

const sizes = ["1920x1080", "1280x720", "640x480", "640x360", "320x240", "320x180"];

/** What the stream is turned into; a field that is left alone leaves it as it comes. */
function FormFields({ form, onChange }: { form: Shape; onChange: (f: Shape) => void }) {
  /** Sets a field, or leaves it out where it says nothing. */
  const set = (fields: Partial<Shape>) => {
    const next = { ...form, ...fields };
    for (const name of Object.keys(fields) as (keyof Shape)[]) if (!next[name]) delete next[name];
    onChange(next);
  };
  const size = form.width ? `${form.width}x${form.height}` : "";
  return (
    <fieldset className="grid grid-cols-2 gap-x-3 gap-y-2 sm:grid-cols-3">
      <legend className="mb-1 text-small text-soft">Turned into, where it cannot be taken as it comes</legend>
      <Choose label="Codec" value={form.codec ?? ""} onChange={(v) => set({ codec: v as Shape["codec"] })}>
        {["H.264", "H.265", "MJPEG"].map((c) => (
          <option key={c}>{c}</option>
        ))}
      </Choose>
      <Choose
        label="Size"
        value={size}
        onChange={(v) => {
          const [width, height] = v.split("x").map(Number);
          set({ width, height });
        }}
      >
        {sizes.map((s) => (
          <option key={s} value={s}>
            {s.replace("x", " × ")}
          </option>
        ))}
      </Choose>
      <Choose label="Frames a second" value={String(form.fps ?? "")} onChange={(v) => set({ fps: Number(v) })}>
        {[1, 2, 5, 10, 15, 25].map((n) => (
          <option key={n}>{n}</option>
        ))}
      </Choose>
      <Choose label="Sound" value={form.sound ?? ""} onChange={(v) => set({ sound: v as Shape["sound"] })}>
        <option value="AAC">AAC</option>
        <option value="Opus">Opus</option>
        <option value="none">left out</option>
      </Choose>
      <Choose label="Turned" value={String(form.turn ?? "")} onChange={(v) => set({ turn: Number(v) as Shape["turn"] })}>
        <option value="90">90° to the right</option>
        <option value="180">upside down</option>
        <option value="270">90° to the left</option>
      </Choose>
      <Choose label="Bitrate" value={String(form.kbps ?? "")} onChange={(v) => set({ kbps: Number(v) })}>
        {[256, 512, 1000, 2000, 4000].map((n) => (
          <option key={n} value={n}>
            {n} kbit/s
          </option>
        ))}
      </Choose>
      <Field
        className="col-span-full"
        label="Text in the picture"
        name="text"
        maxLength={60}
        value={form.text ?? ""}
        onChange={(e) => set({ text: e.target.value })}
      />
    </fieldset>
  );
}

function Choose({
  label,
  value,
  onChange,
  children,
}: {
  label: string;
  value: string;
  onChange: (v: string) => void;
  children: ReactNode;
}) {
  return (
    <label className="block text-small">
      <span className="text-soft">{label}</span>
      <select className="mt-0.5 h-9 w-full rounded-md border bg-sheet px-2" value={value} onChange={(e) => onChange(e.target.value)}>
        <option value="">as it comes</option>
        {children}
      </select>
    </label>
  );
}
