import { toast } from "sonner";
import { z } from "zod";
import { useChangePassword } from "@/api/people";
import { Field } from "@/forms/Field";
import { useSchema } from "@/forms/useSchema";
import { Button } from "@/parts/Button";
import { Trouble } from "@/parts/Trouble";

const Changed = z
  .object({ old: z.string().min(1, "Type your password."), new: z.string().min(10, "At least 10 characters."), again: z.string() })
  .refine((v) => v.new === v.again, { path: ["again"], message: "The two are not the same." });

const empty = { old: "", new: "", again: "" };

/** Gives one's own account another password. */
export function PasswordForm() {
  const form = useSchema(Changed, empty);
  const change = useChangePassword(() => {
    form.reset(empty);
    toast.success("The password is changed. All other browsers are signed out.");
  });
  const { errors } = form.formState;
  return (
    <section>
      <h2 className="mb-2 font-semibold">Another password</h2>
      <form className="max-w-sm space-y-4" onSubmit={form.handleSubmit((v) => change.mutate({ old: v.old, new: v.new }))}>
        <Field
          label="The one you have"
          type="password"
          autoComplete="current-password"
          {...form.register("old")}
          error={errors.old?.message}
        />
        <Field
          label="The new one"
          type="password"
          autoComplete="new-password"
          {...form.register("new")}
          error={errors.new?.message}
          hint="At least 10 characters."
        />
        <Field
          label="The new one again"
          type="password"
          autoComplete="new-password"
          {...form.register("again")}
          error={errors.again?.message}
        />
        <Trouble error={change.error} />
        <Button type="submit" disabled={change.isPending}>
          Change the password
        </Button>
      </form>
    </section>
  );
}
