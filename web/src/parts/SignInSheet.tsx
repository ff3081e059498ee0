import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, must, type Device } from "@/api/client";
import { Button } from "./Button";
import { Check } from "./Check";
import { Field } from "./Field";
import { Sheet } from "./Sheet";
import { Trouble } from "./Trouble";
import { keys } from "@/api/keys";

/** What of a device a sign-in is for. */
export const purposes: Record<string, string> = {
  "": "everything",
  device: "the device service",
  stream: "streams",
  web: "web pages and snapshots",
};

/** Adds a sign-in to the keyring. What was typed stays when the server turns it down. */
export function SignInSheet({
  open,
  onOpenChange,
  why,
  onAdded,
  site,
  device,
}: {
  site?: string;
  device?: Device;
  open: boolean;
  onOpenChange: (open: boolean) => void;
  why?: string;
  onAdded?: () => void;
}) {
  const [user, setUser] = useState("");
  const [secret, setSecret] = useState("");
  const [label, setLabel] = useState("");
  const [factory, setFactory] = useState(false);
  const [here, setHere] = useState(false);
  const [maker, setMaker] = useState("");
  const [only, setOnly] = useState(false);
  const [purpose, setPurpose] = useState<"" | "device" | "stream" | "web">("");
  const q = useQueryClient();
  const add = useMutation({
    mutationFn: () =>
      must(
        api.POST("/api/sign-ins", {
          body: {
            user,
            secret,
            label,
            factory,
            maker,
            site: here ? site : undefined,
            devices: only && device ? [device.id] : undefined,
            purpose,
          },
        }),
      ),
    onSuccess: () => {
      q.invalidateQueries({ queryKey: keys.signIns() });
      toast(`“${label || user}” is on the keyring`);
      setUser("");
      setSecret("");
      setLabel("");
      setMaker("");
      setFactory(false);
      setHere(false);
      setOnly(false);
      setPurpose("");
      onOpenChange(false);
      onAdded?.();
    },
  });
  return (
    <Sheet title="Add a sign-in" open={open} onOpenChange={onOpenChange}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        {why && <p className="text-soft">{why}</p>}
        <Field
          label="User name"
          name="device-user"
          required
          autoFocus
          autoComplete="off"
          value={user}
          onChange={(e) => setUser(e.target.value)}
        />
        <Field
          label="Password"
          name="device-password"
          type="password"
          autoComplete="new-password"
          value={secret}
          onChange={(e) => setSecret(e.target.value)}
          hint="Kept encrypted. Unlatch tries it only on this site’s devices, and stops before a device would lock."
        />
        <Field
          label="What to call it (optional)"
          name="device-label"
          autoComplete="off"
          value={label}
          onChange={(e) => setLabel(e.target.value)}
          placeholder={user || "Railway fitter"}
        />
        <details className="text-small">
          <summary className="cursor-pointer underline decoration-1 underline-offset-2">Where it may be tried</summary>
          <div className="mt-2 space-y-2">
            <Field
              label="Only on devices of this maker"
              name="device-maker"
              autoComplete="off"
              value={maker}
              onChange={(e) => setMaker(e.target.value)}
              placeholder="all makers"
            />
            <label className="block">
              <span className="mb-1 block text-small">What it is for</span>
              <select
                name="device-purpose"
                value={purpose}
                onChange={(e) => setPurpose(e.target.value as typeof purpose)}
                className="h-9 w-full rounded-md border bg-sheet px-2"
              >
                {Object.entries(purposes).map(([k, v]) => (
                  <option key={k} value={k}>
                    {v}
                  </option>
                ))}
              </select>
            </label>
            {device && (
              <label className="flex items-center gap-2">
                <Check checked={only} onChange={() => setOnly(!only)} label="Only on this device" /> Only on {device.name}
              </label>
            )}
            {site && (
              <label className="flex items-center gap-2">
                <Check checked={here} onChange={() => setHere(!here)} label="Only on this site" /> Only on this site
              </label>
            )}
            <label className="flex items-center gap-2">
              <Check checked={factory} onChange={() => setFactory(!factory)} label="Devices have it from the factory" /> Devices have it
              from the factory: one that it opens is a finding
            </label>
          </div>
        </details>
        <Trouble error={add.error} />
        <div className="flex justify-end gap-2 pt-1">
          <Button onClick={() => onOpenChange(false)}>Cancel</Button>
          <Button look="next" type="submit" disabled={!user.trim() || add.isPending}>
            Add to keyring
          </Button>
        </div>
      </form>
    </Sheet>
  );
}
