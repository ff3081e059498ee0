import { useState } from "react";
import type { Device, Stream } from "@/api/client";
import { usePutRelay } from "@/api/relays";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { relayPath } from "@/parts/relaypath";

type Props = { site: string; device: Device; stream: Stream; onClose: () => void };

/** Has a stream served on, with a sign-in of its own. */
export function RelaySheet({ site, device, stream, onClose }: Props) {
  const [whom, setWhom] = useState("");
  const [path, setPath] = useState(relayPath(device.name, stream.role));
  const [always, setAlways] = useState(false);
  const put = usePutRelay(site);
  return (
    <Sheet title={`Serve the ${stream.role} stream on`} open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          const relay = { role: stream.role as "main" | "sub" | "third", path, for: whom, always };
          put.mutate({ id: crypto.randomUUID(), device: device.id, relay }, { onSuccess: onClose });
        }}
      >
        <p>
          A worker takes the stream of {device.name} once and hands its packets on, unchanged, to whoever signs in with a user and a
          password that are made for this alone.
        </p>
        <Field label="Who takes it" name="for" placeholder="Parcel vault" value={whom} onChange={(e) => setWhom(e.target.value)} />
        <Field label="Path behind the worker’s address" name="path" mono value={path} onChange={(e) => setPath(e.target.value)} />
        <label className="flex items-center gap-2">
          <Check checked={always} label="Always on" onChange={() => setAlways(!always)} /> Always on: the camera is played also while nobody
          takes it
        </label>
        <Foot error={put.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={put.isPending || !whom.trim() || !path}>
            Serve it on
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
