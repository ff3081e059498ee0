import { z } from "zod";
import { api, must, type Device } from "@/api/client";
import { useFix, useLeftOut } from "@/api/actions";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Field } from "./Field";
import { useSchema } from "./useSchema";
import { Sheet } from "@/parts/Sheet";
import { Choice } from "@/parts/Choice";

const Schema = z.object({
  user: z
    .string()
    .trim()
    .min(1, "Give the user a name.")
    .regex(/^[^\s:@/\\"'<>&]+$/, "It holds a character that devices or URLs cannot take. Use letters, digits, a dash or a dot."),
  each: z.boolean(),
});

/** Makes a user on devices that may watch and nothing else. Its password goes to the keyring before it goes to a device. */
export function StreamUserSheet({ site, devices, onClose }: { site: string; devices: Device[]; onClose: () => void }) {
  const form = useSchema(Schema, { user: "watch", each: false });
  const mend = useFix(site);
  const many = devices.length > 1;
  const ids = devices.map((d) => d.id);
  const weigh = useLeftOut(["stream_user", ...ids], () =>
    must(
      api.POST("/api/sites/{site}/fixes", {
        params: { path: { site }, query: { try: true } },
        body: { devices: ids, action: "stream_user", user: "watch" },
      }),
    ),
  );
  return (
    <Sheet
      title={many ? `Make a stream user on ${devices.length} cameras` : `Make a stream user on ${devices[0]?.name}`}
      open
      onOpenChange={(o) => !o && onClose()}
    >
      <form
        className="space-y-3"
        onSubmit={form.handleSubmit((values) => mend.mutate({ action: "stream_user", devices, ...values }, { onSuccess: onClose }))}
      >
        <p className="text-soft">
          A user of the lowest level: it may watch the streams and change nothing. Recorders and screens get this sign-in, never the
          administrator’s.
        </p>
        <Field label="User name" {...form.register("user")} error={form.formState.errors.user?.message} autoFocus autoComplete="off" />
        {many && (
          <Choice
            label="Passwords"
            value={form.watch("each") ? "each" : "all"}
            onChange={(v) => form.setValue("each", v === "each")}
            className="gap-1"
            options={[
              ["all", "One for all"],
              ["each", "One for each"],
            ]}
          />
        )}
        <p className="text-small text-soft">
          Unlatch makes the password, 100 bits without characters that a recorder or a URL stumbles over, and puts it on the keyring for
          streams only. Undo takes the user off again.
        </p>
        <Foot error={mend.error ?? weigh.error} left={weigh.data?.left}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={mend.isPending}>
            Make it
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
