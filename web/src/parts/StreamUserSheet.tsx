import { useState } from "react";
import type { Device } from "@/api/client";
import { useRemedy } from "@/api/queries";
import { Button } from "./Button";
import { Field } from "./Field";
import { Sheet } from "./Sheet";
import { Trouble } from "./Trouble";
import { Choice } from "./Choice";

/** Makes a user on devices that may watch and nothing else. Its password goes to the keyring before it goes to a device. */
export function StreamUserSheet({ site, devices, onClose }: { site: string; devices: Device[]; onClose: () => void }) {
  const [user, setUser] = useState("watch");
  const [each, setEach] = useState(false);
  const mend = useRemedy(site);
  const many = devices.length > 1;
  return (
    <Sheet
      title={many ? `Make a stream user on ${devices.length} cameras` : `Make a stream user on ${devices[0]?.name}`}
      open
      onOpenChange={(o) => !o && onClose()}
    >
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          mend.mutate({ action: "stream_user", devices, user, each }, { onSuccess: onClose });
        }}
      >
        <p className="text-soft">
          A user of the lowest level: it may watch the streams and change nothing. Recorders and screens get this sign-in, never the
          administrator’s.
        </p>
        <Field
          label="User name"
          name="stream-user"
          required
          autoFocus
          autoComplete="off"
          value={user}
          onChange={(e) => setUser(e.target.value)}
        />
        {many && (
          <Choice
            label="Passwords"
            value={each ? "each" : "all"}
            onChange={(v) => setEach(v === "each")}
            className="gap-1"
            options={[
              ["all", "One for all"],
              ["each", "One for each"],
            ]}
          />
        )}
        <p className="text-small text-soft">
          Unlatch makes the password, 100 bits without characters that a recorder or a URL stumbles over, and puts it on the keyring for
          streams only. Undo takes the user off again.
        </p>
        {mend.error && <Trouble error={mend.error} />}
        <div className="flex justify-end gap-2 pt-1">
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={!user.trim() || mend.isPending}>
            Make it
          </Button>
        </div>
      </form>
    </Sheet>
  );
}
