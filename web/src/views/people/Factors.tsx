import { useState } from "react";
import { useNewRecoveryCodes, useRemoveFactor } from "@/api/people";
import type { Factor } from "@/api/client";
import { hasPasskeys } from "@/api/passkeys";
import { useFactors } from "@/api/queries";
import { Button } from "@/parts/Button";
import { ago } from "@/parts/measures";
import { Trouble } from "@/parts/Trouble";
import { CodesSheet } from "./CodesSheet";
import { CodeSheet } from "./CodeSheet";
import { PasskeySheet } from "./PasskeySheet";
import { PasswordSheet } from "./PasswordSheet";

type Opened = { what: "code" | "passkey" | "recovery" } | { what: "remove"; factor: Factor } | null;

/** What one shows besides the password when one signs in. */
export function Factors() {
  const factors = useFactors();
  const [open, setOpen] = useState<Opened>(null);
  const [codes, setCodes] = useState<string[] | null>(null);
  const remove = useRemoveFactor();
  const renew = useNewRecoveryCodes();
  const close = () => setOpen(null);
  const added = (made: { recovery_codes?: string[] }) => {
    close();
    if (made.recovery_codes?.length) setCodes(made.recovery_codes);
  };
  const list = factors.data?.factors ?? [];
  const passkeys = !!factors.data?.passkeys && hasPasskeys();
  return (
    <section>
      <h2 className="mb-1 font-semibold">Second factor</h2>
      <p className="mb-2 max-w-prose text-soft">
        {list.length === 0
          ? "Who learns your password can sign in as you. With a second factor that is not enough any more."
          : "You are asked for one of these after your password."}
      </p>
      <Trouble error={factors.error} />
      {list.length > 0 && (
        <ul className="mb-3 border-t">
          {list.map((f) => (
            <li key={f.id} className="flex min-h-10 items-center gap-4 border-b py-1">
              <span className="min-w-0 grow truncate">{f.name}</span>
              <span className="shrink-0 text-soft">{f.last_used_at ? `used ${ago(f.last_used_at)}` : "not used yet"}</span>
              <Button look="quiet" onClick={() => setOpen({ what: "remove", factor: f })}>
                Remove
              </Button>
            </li>
          ))}
          <li className="flex min-h-10 items-center gap-4 border-b py-1">
            <span className="grow">Recovery codes, for when those are lost</span>
            <span className={factors.data!.recovery_codes < 3 ? "text-stuck" : "text-soft"}>{factors.data!.recovery_codes} left</span>
            <Button look="quiet" onClick={() => setOpen({ what: "recovery" })}>
              Make new ones
            </Button>
          </li>
        </ul>
      )}
      <div className="flex flex-wrap gap-2">
        <Button onClick={() => setOpen({ what: "code" })}>Add codes from an app</Button>
        <Button disabled={!passkeys} onClick={() => setOpen({ what: "passkey" })}>
          Add a passkey
        </Button>
      </div>
      {factors.data && !passkeys && (
        <p className="mt-1 text-small text-soft">
          Passkeys belong to a name: open Unlatch by one, over TLS, to add them. {location.hostname} is an address, or not safe.
        </p>
      )}
      {open?.what === "code" && <CodeSheet onClose={close} onAdded={added} />}
      {open?.what === "passkey" && <PasskeySheet onClose={close} onAdded={added} />}
      {open?.what === "recovery" && (
        <PasswordSheet
          title="New recovery codes"
          more="Those of before end."
          yes="Make new ones"
          action={renew}
          onYes={(password) => renew.mutate(password, { onSuccess: added })}
          onClose={close}
        />
      )}
      {open?.what === "remove" && (
        <PasswordSheet
          title={`Remove ${open.factor.name}`}
          more={list.length === 1 ? "It is the last one: your password alone will open your account, and the recovery codes end." : ""}
          yes="Remove it"
          action={remove}
          onYes={(password) => remove.mutate({ factor: open.factor.id, password }, { onSuccess: close })}
          onClose={close}
        />
      )}
      {codes && <CodesSheet codes={codes} onClose={() => setCodes(null)} />}
    </section>
  );
}
