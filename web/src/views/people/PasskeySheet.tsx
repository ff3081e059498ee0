import { useState } from "react";
import { useAddPasskey } from "@/api/people";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";

/** Adds a passkey: after the password, the browser asks for the phone, the finger or the stick. */
export function PasskeySheet({ onClose, onAdded }: { onClose: () => void; onAdded: (made: { recovery_codes?: string[] }) => void }) {
  const add = useAddPasskey();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  return (
    <Sheet title="A passkey" open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-4"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate({ name, password }, { onSuccess: onAdded });
        }}
      >
        <Field
          label="Name"
          name="name"
          value={name}
          onChange={(e) => setName(e.target.value)}
          placeholder="Passkey"
          autoComplete="off"
          hint="What you will know it by, such as your phone's name."
        />
        <Field
          label="Your password"
          name="own-password"
          type="password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          autoFocus
          autoComplete="current-password"
        />
        <Foot error={add.error}>
          <Button look="next" type="submit" disabled={add.isPending || !password}>
            {add.isPending ? "The browser asks …" : "Add a passkey"}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
