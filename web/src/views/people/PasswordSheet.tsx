import { useState } from "react";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";

/** Asks for one's own password once more before something about the account is changed. */
export function PasswordSheet({
  title,
  more,
  yes,
  action,
  onYes,
  onClose,
}: {
  title: string;
  more?: string;
  yes: string;
  action: { error: unknown; isPending: boolean };
  onYes: (password: string) => void;
  onClose: () => void;
}) {
  const [password, setPassword] = useState("");
  return (
    <Sheet title={title} open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-4"
        onSubmit={(e) => {
          e.preventDefault();
          onYes(password);
        }}
      >
        {more && <p>{more}</p>}
        <Field
          label="Your password"
          name="own-password"
          type="password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          autoFocus
          autoComplete="current-password"
        />
        <Foot error={action.error}>
          <Button look="next" type="submit" disabled={action.isPending || !password}>
            {yes}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
