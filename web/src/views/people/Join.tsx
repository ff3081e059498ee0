import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { z } from "zod";
import { useSignOn, useTakeLink } from "@/api/people";
import { api, must } from "@/api/client";
import { useSession } from "@/api/queries";
import { Field } from "@/forms/Field";
import { useSchema } from "@/forms/useSchema";
import { Button } from "@/parts/Button";
import { Mark } from "@/parts/Mark";
import { Trouble } from "@/parts/Trouble";
import { roleNames, roles } from "./roles";

const Chosen = z
  .object({ password: z.string().min(10, "At least 10 characters."), again: z.string() })
  .refine((v) => v.password === v.again, { path: ["again"], message: "The two are not the same." });

/** Where a one-time link leads: to a password of one's own, and into Unlatch. The token stands behind the # and reaches no log. */
export function Join() {
  const [token] = useState(() => location.hash.slice(1));
  const go = useNavigate();
  const link = useQuery({
    queryKey: ["link", token],
    queryFn: () => must(api.POST("/api/link", { body: { token } })),
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const take = useTakeLink(() => go("/", { replace: true }));
  const provider = useSession().data?.sign_on;
  const signOn = useSignOn();
  const form = useSchema(Chosen, { password: "", again: "" });
  const { errors } = form.formState;
  return (
    <main className="grid min-h-full place-items-center p-4">
      <div className="w-full max-w-[380px]">
        <div className="mb-6 flex items-center gap-3">
          <Mark size={40} />
          <h1 className="text-2xl leading-7 font-semibold">{link.data ? `Hello ${link.data.name}` : "Unlatch"}</h1>
        </div>
        <Trouble error={link.error} />
        {link.data && (
          <form className="space-y-4 border-t pt-5" onSubmit={form.handleSubmit((v) => take.mutate({ token, password: v.password }))}>
            <p>
              {link.data.reset ? (
                "Choose a new password. All your other browsers are signed out then."
              ) : (
                <>
                  You are invited as <strong>{roleNames[link.data.role]}</strong>. {roles.find((r) => r.role === link.data.role)?.may}
                </>
              )}
            </p>
            <input type="hidden" name="username" autoComplete="username" value={link.data.name} readOnly />
            <Field
              label="Password"
              type="password"
              autoComplete="new-password"
              autoFocus
              {...form.register("password")}
              error={errors.password?.message}
              hint="At least 10 characters."
            />
            <Field
              label="The same again"
              type="password"
              autoComplete="new-password"
              {...form.register("again")}
              error={errors.again?.message}
            />
            <Trouble error={take.error} />
            <Button look="next" type="submit" className="h-10 w-full" disabled={take.isPending}>
              {link.data.reset ? "Set the password" : "Make the account"}
            </Button>
            {provider && !link.data.reset && (
              <Button type="button" className="h-10 w-full" disabled={signOn.isPending} onClick={() => signOn.mutate(token)}>
                Without a password, with {provider}
              </Button>
            )}
            <Trouble error={signOn.error} />
          </form>
        )}
      </div>
    </main>
  );
}
