import { KeyRound } from "lucide-react";
import { useState } from "react";
import { say } from "@/api/actions";
import { useSecond } from "@/api/people";
import type { Session } from "@/api/client";
import { hasPasskeys, showPasskey } from "@/api/passkeys";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Trouble } from "@/parts/Trouble";

/** What a sign-in wants after the password: a passkey, a code from an app, or a recovery code. */
export function SecondStep({ second, onAgain }: { second: NonNullable<Session["second"]>; onAgain: () => void }) {
  const finish = useSecond();
  const [code, setCode] = useState("");
  const passkey = !!second.passkey && hasPasskeys();
  return (
    <form
      className="space-y-4 border-t pt-5"
      onSubmit={(e) => {
        e.preventDefault();
        finish.mutate({ code: code.trim() });
      }}
    >
      <p>The password is right. One thing more:</p>
      {passkey && (
        <Button
          look="next"
          type="button"
          className="h-10 w-full"
          disabled={finish.isPending}
          onClick={() =>
            showPasskey(second.passkey)
              .then((answer) => finish.mutate({ passkey: answer }))
              .catch(() => say("The browser has shown no passkey. Try again, or use a code."))
          }
        >
          <KeyRound size={16} /> Use a passkey
        </Button>
      )}
      <Field
        label={second.code ? "Code from your app, or a recovery code" : "Recovery code"}
        name="code"
        value={code}
        onChange={(e) => setCode(e.target.value)}
        autoFocus={!passkey}
        autoComplete="one-time-code"
        mono
      />
      <Trouble error={finish.error} />
      <Button look={passkey ? "plain" : "next"} type="submit" className="h-10 w-full" disabled={finish.isPending || !code.trim()}>
        Sign in
      </Button>
      <button type="button" className="text-soft underline hover:text-ink" onClick={onAgain}>
        Begin again
      </button>
    </form>
  );
}
