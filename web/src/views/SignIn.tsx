import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, must } from "@/api/client";
import { Button } from "@/parts/Button";
import { Field } from "@/parts/Field";
import { LatchChain } from "@/parts/LatchChain";
import { Mark } from "@/parts/Mark";
import { latchNames } from "@/parts/latches";
import { Trouble } from "@/parts/Trouble";

/** Signing in; at the first start, making the first account with the code from the terminal. */
export function SignIn({ first }: { first: boolean }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState(() => decodeURIComponent(location.hash.slice(1)));
  const q = useQueryClient();
  const go = useNavigate();
  const enter = useMutation({
    mutationFn: () =>
      first
        ? must(api.POST("/api/setup", { body: { name, password, code } }))
        : must(api.POST("/api/session", { body: { name, password } })),
    onSuccess: () => {
      if (location.pathname === "/setup") go("/", { replace: true });
      q.invalidateQueries();
    },
  });
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
        <form
          className="space-y-4 border-t pt-5"
          onSubmit={(e) => {
            e.preventDefault();
            enter.mutate();
          }}
        >
          {first && <p>Nobody has an account here yet. Make the first one.</p>}
          {first && (
            <Field
              label="Set-up code"
              name="code"
              required
              autoComplete="off"
              value={code}
              onChange={(e) => setCode(e.target.value)}
              className="mono"
              hint="It stands in the terminal in which Unlatch was started."
            />
          )}
          <Field
            label="Name"
            name="name"
            required
            autoFocus
            autoComplete="username"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <Field
            label="Password"
            name="password"
            type="password"
            required
            minLength={first ? 10 : 1}
            autoComplete={first ? "new-password" : "current-password"}
            value={password}
            onChange={(e) => setPassword(e.target.value)}
            hint={first ? "At least 10 characters." : undefined}
          />
          <Trouble error={enter.error} />
          <Button look="next" type="submit" className="h-10 w-full" disabled={enter.isPending}>
            {first ? "Make the account" : "Sign in"}
          </Button>
        </form>
        <div className="mt-8 flex items-center gap-3 text-small text-soft" aria-hidden>
          <LatchChain latches={Object.keys(latchNames).map((n, i) => ({ name: n, state: i < 3 ? "open" : i === 3 ? "next" : "closed" }))} />
          eight latches to every camera
        </div>
      </div>
    </main>
  );
}
