import { useState } from "react";
import { useNavigate } from "react-router";
import { z } from "zod";
import { useEnter, useSignOn } from "@/api/people";
import type { Session } from "@/api/client";
import { Button } from "@/parts/Button";
import { Field } from "@/forms/Field";
import { useSchema } from "@/forms/useSchema";
import { LatchChain } from "@/parts/LatchChain";
import { Mark } from "@/parts/Mark";
import { latchNames } from "@/parts/latches";
import { Trouble } from "@/parts/Trouble";
import { SecondStep } from "./SecondStep";

const Known = z.object({
  name: z.string().min(1, "Type your name."),
  password: z.string().min(1, "Type your password."),
  code: z.string(),
});
const First = Known.extend({
  password: z.string().min(10, "At least 10 characters."),
  code: z.string().min(1, "It stands in the terminal in which Unlatch was started."),
});

/** Signing in; at the first start, making the first account with the code from the terminal. */
export function SignIn({ first, provider }: { first: boolean; provider?: string }) {
  const form = useSchema(first ? First : Known, { name: "", password: "", code: decodeURIComponent(location.hash.slice(1)) });
  const go = useNavigate();
  const [second, setSecond] = useState<Session["second"]>();
  const enter = useEnter(first, (session) => {
    setSecond(session.second);
    if (location.pathname === "/setup") go("/", { replace: true });
  });
  const signOn = useSignOn();
  const { errors } = form.formState;
  return (
    <main className="grid min-h-full place-items-center p-4">
      <div className="w-full max-w-[380px]">
        <div className="mb-6 flex items-center gap-3">
          <Mark size={40} />
          <div>
            <h1 className="text-2xl leading-7 font-semibold">Unlatch</h1>
            <p className="text-soft">From an unknown network to a picture on every screen</p>
          </div>
        </div>
        {second && <SecondStep second={second} onAgain={() => setSecond(undefined)} />}
        <form hidden={!!second} className="space-y-4 border-t pt-5" onSubmit={form.handleSubmit((v) => enter.mutate(v))}>
          {first && <p>Nobody has an account here yet. Make the first one.</p>}
          {first && (
            <Field
              label="Set-up code"
              {...form.register("code")}
              error={errors.code?.message}
              autoComplete="off"
              mono
              hint="It stands in the terminal in which Unlatch was started."
            />
          )}
          <Field label="Name" {...form.register("name")} error={errors.name?.message} autoFocus autoComplete="username" />
          <Field
            label="Password"
            {...form.register("password")}
            error={errors.password?.message}
            type="password"
            autoComplete={first ? "new-password" : "current-password"}
            hint={first ? "At least 10 characters." : undefined}
          />
          <Trouble error={enter.error} />
          <Button look="next" type="submit" className="h-10 w-full" disabled={enter.isPending}>
            {first ? "Make the account" : "Sign in"}
          </Button>
          {provider && !first && (
            <Button type="button" className="h-10 w-full" disabled={signOn.isPending} onClick={() => signOn.mutate(undefined)}>
              Sign in with {provider}
            </Button>
          )}
          <Trouble error={signOn.error} />
        </form>
        <div className="mt-8 flex items-center gap-3 text-small text-soft" aria-hidden>
          <LatchChain latches={Object.keys(latchNames).map((n, i) => ({ name: n, state: i < 3 ? "open" : i === 3 ? "next" : "closed" }))} />
          eight latches to every camera
        </div>
      </div>
    </main>
  );
}
