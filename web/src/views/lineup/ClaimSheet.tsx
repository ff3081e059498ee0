import { Dices } from "lucide-react";
import { useEffect, useState } from "react";
import { say, useClaim, useLeftOut } from "@/api/actions";
import { api, must, type Device } from "@/api/client";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Field } from "@/forms/Field";
import { Sheet } from "@/parts/Sheet";
import { Choice } from "@/parts/Choice";
import { z } from "zod";
import { useSchema } from "@/forms/useSchema";

/** Five groups of letters and digits that no target stumbles over, about 100 bits. */
function make() {
  const letters = "abcdefghijkmnpqrstuvwxyz23456789";
  const raw = crypto.getRandomValues(new Uint8Array(20));
  return [...raw].map((b, i) => (i > 0 && i % 5 === 0 ? "-" : "") + letters[b % 32]).join("");
}

const Schema = z
  .object({ user: z.string().trim().min(1, "Give the account a name."), secret: z.string(), each: z.boolean() })
  .refine((v) => v.each || v.secret !== "", { path: ["secret"], message: "Type a password, or let Unlatch make one." });

/** Gives factory-fresh devices their first account. The password goes to the keyring before it goes to a device. */
export function ClaimSheet({
  site,
  devices,
  open,
  onOpenChange,
}: {
  site: string;
  devices: Device[];
  open: boolean;
  onOpenChange: (open: boolean) => void;
}) {
  const factory = devices[0]?.factory; // it has an account already: the password of that one is changed
  const form = useSchema(Schema, { user: factory ?? "fitter", secret: "", each: false });
  const { user, secret, each } = form.watch();
  const claim = useClaim(site);
  const send = form.handleSubmit((v) =>
    claim.mutate(
      { devices: devices.map((d) => d.id), user: v.user, secret: v.each ? "" : v.secret },
      { onSuccess: () => onOpenChange(false) },
    ),
  );
  const [judged, setJudged] = useState({ level: 0, says: "Type one, or let Unlatch make one." });
  useEffect(() => {
    // Asked once a person stops typing; an answer that is not the last is passed over.
    let current = true;
    const timer = setTimeout(() => {
      must(api.POST("/api/password-strength", { body: { user, secret } })).then((s) => current && setJudged(s), say);
    }, 200);
    return () => {
      current = false;
      clearTimeout(timer);
    };
  }, [user, secret]);
  const s = judged;
  const ids = devices.map((d) => d.id);
  const weigh = useLeftOut(["claim", user, ...ids], () =>
    must(
      api.POST("/api/sites/{site}/claim", { params: { path: { site }, query: { try: true } }, body: { devices: ids, user: user || "-" } }),
    ),
  );
  const many = devices.length > 1;
  return (
    <Sheet title={many ? `Claim ${devices.length} devices` : `Claim ${devices[0]?.name}`} open={open} onOpenChange={onOpenChange}>
      <form className="space-y-3" onSubmit={send}>
        <p className="text-soft">
          {factory
            ? "Its account keeps its name and gets a password of its own. The new one is on the keyring before it is sent."
            : many
              ? "They let anyone in, as they came from the factory. The first account closes them."
              : "It lets anyone in, as it came from the factory. The first account closes it."}
        </p>
        <Field
          label="User name"
          {...form.register("user")}
          error={form.formState.errors.user?.message}
          readOnly={!!factory}
          autoComplete="off"
        />
        {many && (
          <Choice
            label="Passwords"
            value={each ? "each" : "all"}
            onChange={(v) => form.setValue("each", v === "each")}
            className="gap-1"
            options={[
              ["all", "One for all"],
              ["each", "One for each"],
            ]}
          />
        )}
        {each ? (
          <p>Unlatch makes a password for each and puts it on the keyring under the device’s name.</p>
        ) : (
          <>
            <div className="flex items-start gap-2">
              <Field
                className="grow"
                label="Password"
                {...form.register("secret")}
                error={form.formState.errors.secret?.message}
                autoFocus
                autoComplete="new-password"
                spellCheck={false}
              />
              {/* In line with the field, with or without an error below it: a button that moves as the field is left loses the click. */}
              <Button className="mt-6 h-9" onClick={() => form.setValue("secret", make(), { shouldValidate: true })}>
                <Dices size={15} /> Make one
              </Button>
            </div>
            <div aria-live="polite" className="text-small text-soft">
              <span className="mr-2 inline-flex gap-0.5 align-middle" aria-hidden>
                {[1, 2, 3, 4].map((n) => (
                  <span key={n} className={`h-2 w-8 rounded-[1px] ${n <= s.level ? (s.level < 3 ? "bg-stuck" : "bg-open") : "bg-well"}`} />
                ))}
              </span>
              {s.says}
            </div>
          </>
        )}
        <Foot error={claim.error ?? weigh.error} left={weigh.data?.left}>
          <Button onClick={() => onOpenChange(false)}>Cancel</Button>
          <Button look="next" type="submit" disabled={(!each && s.level < 2) || claim.isPending}>
            Save to keyring and claim
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
