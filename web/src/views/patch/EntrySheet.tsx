import { useState } from "react";
import type { Device, Target } from "@/api/client";
import { type PlaceBody, usePlace } from "@/api/targets";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { endless, type Row } from "@/parts/patch";
import { Sheet } from "@/parts/Sheet";
import { slotsFor } from "./placing";

type Placing = PlaceBody["placements"][number];
type Role = NonNullable<Placing["role"]>;

const streams: [Role | "", string][] = [
  ["", "the one that it takes best"],
  ["main", "the main stream"],
  ["sub", "the sub stream"],
  ["third", "the third stream"],
  ["picture", "a picture over HTTP"],
];

/** A copy of an entry, of which one field is changed: most often the camera, or the screen that it stands on. */
export function EntrySheet({
  site,
  row,
  target,
  devices,
  targets: all,
  onClose,
}: {
  site: string;
  row: Row;
  target: Target;
  devices: Device[];
  targets: Target[];
  onClose: () => void;
}) {
  const place = usePlace(site);
  const targets = all.filter((t) => t.kind === target.kind && t.is === target.is);
  const [on, setOn] = useState(target.id);
  const to = targets.find((t) => t.id === on) ?? target;
  const open = devices.filter((d) => d.kind === "camera" && !d.placements.some((p) => p.target === on));
  const [camera, setCamera] = useState("");
  const device = open.find((d) => d.id === camera) ?? open.find((d) => d.id === row.device?.id) ?? open[0];
  const [role, setRole] = useState<Role | "">((row.placement?.role as Role) || "");
  const [slot, setSlot] = useState("");
  const free = slotsFor(to, row.slot?.token);
  const token = free.some((s) => s.token === slot) ? slot : free[0]?.token;
  const send = () => {
    if (!device) return;
    place.mutate(
      { placements: [{ device: device.id, target: to.id, slot: endless(to) ? undefined : token, role: role || undefined }], name: to.name },
      { onSuccess: onClose },
    );
  };
  return (
    <Sheet title={`Copy the entry of ${row.device?.name ?? row.slot?.name}`} open onOpenChange={onClose}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          send();
        }}
      >
        <p className="text-soft">All is as in that entry but what you change here.</p>
        <Choose
          label="Camera"
          value={device?.id ?? ""}
          onChange={setCamera}
          options={open.map((d) => [d.id, `${d.name} · ${d.address}`])}
        />
        <Choose label="On" value={on} onChange={setOn} options={targets.map((t) => [t.id, t.name])} />
        {!endless(to) && (
          <Choose label="Slot" value={token ?? ""} onChange={setSlot} options={free.map((s) => [s.token, s.label || s.token])} />
        )}
        <Choose label="Stream" value={role} onChange={(v) => setRole(v as Role | "")} options={streams} />
        {!device && <p className="text-soft">Every camera of the site stands on {to.name} already.</p>}
        {device && !endless(to) && !token && <p className="text-soft">{to.name} has no free slot.</p>}
        <Foot error={place.error}>
          <Button onClick={onClose}>Leave it</Button>
          <Button look="next" type="submit" disabled={place.isPending || !device || (!endless(to) && !token)}>
            Place it
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}

function Choose({
  label,
  value,
  onChange,
  options,
}: {
  label: string;
  value: string;
  onChange: (v: string) => void;
  options: readonly (readonly [string, string])[];
}) {
  return (
    <label className="block">
      <span className="mb-1 block text-small text-soft">{label}</span>
      <select className="h-9 w-full rounded-md border bg-sheet px-2" value={value} onChange={(e) => onChange(e.target.value)}>
        {options.map(([k, text]) => (
          <option key={k} value={k}>
            {text}
          </option>
        ))}
      </select>
    </label>
  );
}
