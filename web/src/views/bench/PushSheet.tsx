import { useState } from "react";
import type { Device, Stream } from "@/api/client";
import { type Shape, usePutRelay, useRelayCost } from "@/api/relays";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { Foot } from "@/parts/Foot";
import { RelayCost } from "@/parts/RelayCost";
import { relayPath } from "@/parts/relaypath";
import { Sheet } from "@/parts/Sheet";

const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** Sends a stream to a live platform: it is turned into what platforms take where it is something else. */
export function PushSheet({ site, device, stream, onClose }: { site: string; device: Device; stream: Stream; onClose: () => void }) {
  const [whom, setWhom] = useState("");
  const [to, setTo] = useState("");
  const [key, setKey] = useState("");
  const [clear, setClear] = useState(false);
  const [silence, setSilence] = useState(true);
  const [from, setFrom] = useState("");
  const [until, setUntil] = useState("");
  const put = usePutRelay(site);
  const role = stream.role as "main" | "sub" | "third";
  const form = formFor(stream);
  const converted = Object.keys(form).length > 0;
  const cost = useRelayCost(site, device.id, role, form).data;
  const plain = /^\s*rtmp:/i.test(to);
  const hours = from && until ? { from, until, zone } : undefined;
  const [short] = useState(() => crypto.randomUUID().slice(0, 4)); // a stream may be sent to several platforms
  return (
    <Sheet title={`Send the ${stream.role} stream to a live platform`} open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          const push = { to, clear: plain && clear, silence, hours };
          const path = `${relayPath(device.name, stream.role)}-${short}`;
          put.mutate(
            { id: crypto.randomUUID(), device: device.id, key, relay: { role, path, for: whom, form, push } },
            { onSuccess: onClose },
          );
        }}
      >
        <Field label="Platform" name="for" placeholder="Beacon Line" value={whom} onChange={(e) => setWhom(e.target.value)} />
        <Field
          label="Ingest address, without the stream key"
          name="to"
          mono
          placeholder="rtmps://ingest.example/live"
          value={to}
          onChange={(e) => setTo(e.target.value)}
        />
        <Field
          label="Stream key"
          name="key"
          mono
          type="password"
          autoComplete="off"
          hint="It is kept encrypted, and sent to this platform alone."
          value={key}
          onChange={(e) => setKey(e.target.value)}
        />
        {plain && (
          <label className="flex items-start gap-2 border-l-4 border-stuck bg-well px-3 py-2">
            <Check checked={clear} label="The key may go out unencrypted" onChange={() => setClear(!clear)} />
            <span>The key may go out unencrypted: rtmp:// is not TLS. Most platforms have an address with rtmps:// as well.</span>
          </label>
        )}
        <label className="flex items-center gap-2">
          <Check checked={silence} label="Silence where there is no sound" onChange={() => setSilence(!silence)} /> Send silence where there
          is no sound: some platforms take nothing without
        </label>
        <div className="grid grid-cols-2 gap-3">
          <Field label="From, empty for all day" name="from" type="time" value={from} onChange={(e) => setFrom(e.target.value)} />
          <Field label={`Until (${zone})`} name="until" type="time" value={until} onChange={(e) => setUntil(e.target.value)} />
        </div>
        {converted && cost && (
          <p className="border-y py-2">
            Platforms take H.264 with AAC. Turning it into {cost.words} costs <RelayCost cost={cost} />
          </p>
        )}
        <Foot error={put.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={put.isPending || !whom.trim() || !to.trim() || (plain && !clear)}>
            Send it
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}

/** What a stream is turned into for a platform; nothing where it is that already, or was not measured. */
function formFor(stream: Stream): Shape {
  const form: Shape = {};
  const video = stream.proof?.video?.codec;
  const audio = stream.proof?.audio?.codec;
  if (video && video !== "H.264") form.codec = "H.264";
  if (audio && audio !== "AAC") form.sound = "AAC";
  return form;
}
