import { z } from "zod";
import { useAddSignIn } from "@/api/actions";
import type { Device } from "@/api/client";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Check } from "@/parts/Check";
import { Field } from "./Field";
import { Sheet } from "@/parts/Sheet";
import { useSchema } from "./useSchema";

/** What of a device a sign-in is for. */
export const purposes: Record<string, string> = {
  "": "everything",
  device: "the device service",
  stream: "streams",
  web: "web pages and snapshots",
  target: "a target, and no device",
};

const Schema = z.object({
  user: z.string().trim().min(1, "Type the user name that the devices know."),
  secret: z.string(),
  label: z.string(),
  maker: z.string(),
  purpose: z.enum(["", "device", "stream", "web"]),
  factory: z.boolean(),
  here: z.boolean(),
  only: z.boolean(),
});

const nothing: z.infer<typeof Schema> = {
  user: "",
  secret: "",
  label: "",
  maker: "",
  purpose: "",
  factory: false,
  here: false,
  only: false,
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
  const form = useSchema(Schema, nothing);
  const add = useAddSignIn();
  const user = form.watch("user");
  const send = form.handleSubmit(({ here, only, ...rest }) =>
    add.mutate(
      { ...rest, site: here ? site : undefined, devices: only && device ? [device.id] : undefined },
      {
        onSuccess: () => {
          form.reset(nothing);
          onOpenChange(false);
          onAdded?.();
        },
      },
    ),
  );
  const tick = (name: "here" | "only" | "factory") => ({
    checked: form.watch(name),
    onChange: () => form.setValue(name, !form.getValues(name)),
  });
  return (
    <Sheet title="Add a sign-in" open={open} onOpenChange={onOpenChange}>
      <form className="space-y-3" onSubmit={send}>
        {why && <p className="text-soft">{why}</p>}
        <Field label="User name" {...form.register("user")} error={form.formState.errors.user?.message} autoFocus autoComplete="off" />
        <Field
          label="Password"
          {...form.register("secret")}
          type="password"
          autoComplete="new-password"
          hint="Kept encrypted. Unlatch tries it only on this site’s devices, and stops before a device would lock."
        />
        <Field label="What to call it (optional)" {...form.register("label")} autoComplete="off" placeholder={user || "Railway fitter"} />
        <details className="text-small">
          <summary className="cursor-pointer underline decoration-1 underline-offset-2">Where it may be tried</summary>
          <div className="mt-2 space-y-2">
            <Field label="Only on devices of this maker" {...form.register("maker")} autoComplete="off" placeholder="all makers" />
            <label className="block">
              <span className="mb-1 block text-small">What it is for</span>
              <select {...form.register("purpose")} className="h-9 w-full rounded-md border bg-sheet px-2">
                {Object.entries(purposes).map(([k, v]) => (
                  <option key={k} value={k}>
                    {v}
                  </option>
                ))}
              </select>
            </label>
            {device && (
              <label className="flex items-center gap-2">
                <Check {...tick("only")} label="Only on this device" /> Only on {device.name}
              </label>
            )}
            {site && (
              <label className="flex items-center gap-2">
                <Check {...tick("here")} label="Only on this site" /> Only on this site
              </label>
            )}
            <label className="flex items-center gap-2">
              <Check {...tick("factory")} label="Devices have it from the factory" /> Devices have it from the factory: one that it opens is
              a finding
            </label>
          </div>
        </details>
        <Foot error={add.error}>
          <Button onClick={() => onOpenChange(false)}>Cancel</Button>
          <Button look="next" type="submit" disabled={add.isPending}>
            Add to keyring
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
