import { useState } from "react";
import { useConnect, useDisconnect } from "@/api/people";
import { useSession } from "@/api/queries";
import { Button } from "@/parts/Button";
import { PasswordSheet } from "./PasswordSheet";

/** Whether one may sign in by the provider of single sign-on; nothing where there is no provider. */
export function Connection() {
  const session = useSession().data;
  const [open, setOpen] = useState(false);
  const connect = useConnect();
  const disconnect = useDisconnect();
  if (!session?.sign_on) return null;
  const { sign_on: provider, connected, password } = session;
  const close = () => setOpen(false);
  return (
    <section>
      <h2 className="mb-1 font-semibold">Single sign-on</h2>
      <p className="mb-2 max-w-prose text-soft">
        {!connected && `Connect your account, and you can sign in with ${provider} instead of your password.`}
        {connected && password && `You can sign in with ${provider}, or with your password.`}
        {connected && !password && `You sign in with ${provider}. It is your only way in; an owner can make you a link for a password.`}
      </p>
      {password && <Button onClick={() => setOpen(true)}>{connected ? `Disconnect from ${provider}` : `Connect to ${provider}`}</Button>}
      {open && (
        <PasswordSheet
          title={connected ? `Disconnect from ${provider}` : `Connect to ${provider}`}
          more={connected ? "Your password alone lets you in then." : `You sign in there, and come back here.`}
          yes={connected ? "Disconnect" : "Go there"}
          action={connected ? disconnect : connect}
          onYes={(own) => (connected ? disconnect.mutate(own, { onSuccess: close }) : connect.mutate(own))}
          onClose={close}
        />
      )}
    </section>
  );
}
