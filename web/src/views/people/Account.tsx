import { toast } from "sonner";
import { z } from "zod";
import { useChangePassword, useEndSession } from "@/api/actions";
import { useMay, useOwnSessions, useSession } from "@/api/queries";
import { Field } from "@/forms/Field";
import { useSchema } from "@/forms/useSchema";
import { Button } from "@/parts/Button";
import { ago } from "@/parts/measures";
import { PageHead } from "@/parts/PageHead";
import { Trouble } from "@/parts/Trouble";
import { Factors } from "./Factors";
import { roleNames } from "./roles";
import { Tokens } from "./Tokens";

const Changed = z
  .object({ old: z.string().min(1, "Type your password."), new: z.string().min(10, "At least 10 characters."), again: z.string() })
  .refine((v) => v.new === v.again, { path: ["again"], message: "The two are not the same." });

const empty = { old: "", new: "", again: "" };

/** One's own account: the password, and the browsers in which one is signed in. */
export function Account() {
  const session = useSession().data;
  const may = useMay();
  const sessions = useOwnSessions();
  const end = useEndSession();
  const form = useSchema(Changed, empty);
  const change = useChangePassword(() => {
    form.reset(empty);
    toast.success("The password is changed. All other browsers are signed out.");
  });
  const { errors } = form.formState;
  return (
    <div className="flex min-h-full flex-col">
      <PageHead title="Your account" />
      <main className="mx-auto w-full max-w-3xl space-y-8 p-4 sm:p-8">
        <div>
          <h1 className="text-xl font-semibold">{session?.name}</h1>
          {session?.role && <p className="text-soft">{roleNames[session.role as keyof typeof roleNames]}</p>}
        </div>
        {session?.must_add_factor && (
          <p role="alert" className="border-l-4 border-brass bg-well px-3 py-2">
            Your role must have a second factor. Add one here, then you can go on.
          </p>
        )}
        <section>
          <h2 className="mb-2 font-semibold">Where you are signed in</h2>
          <Trouble error={sessions.error} />
          <ul className="border-t">
            {sessions.data?.map((s) => (
              <li key={s.id} className="flex min-h-10 items-center gap-4 border-b py-1">
                <span className="min-w-0 grow truncate">{s.browser || "A browser that does not say what it is"}</span>
                <span className="shrink-0 text-soft">{s.own ? "this one" : `seen ${ago(s.last_seen_at)}`}</span>
                {!s.own && (
                  <Button look="quiet" disabled={end.isPending} onClick={() => end.mutate(s.id)}>
                    Sign out there
                  </Button>
                )}
              </li>
            ))}
          </ul>
        </section>
        <Factors />
        {may("look") && !session?.must_add_factor && <Tokens />}
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
      </main>
    </div>
  );
}
