import { useState } from "react";
import { useChangePerson, useInvite } from "@/api/people";
import type { Member, Role } from "@/api/client";
import { useSites } from "@/api/queries";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { Choice } from "@/parts/Choice";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { type Made, roleNames, roles } from "./roles";

/** Invites somebody, or gives a person another role or other sites. */
export function PersonSheet({ member, onClose, onMade }: { member?: Member; onClose: () => void; onMade: (m: Made) => void }) {
  const sites = useSites().data ?? [];
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>(member?.role ?? "technician");
  const [given, setGiven] = useState<string[]>(member?.sites ?? (sites.length === 1 ? [sites[0]!.id] : []));
  const invite = useInvite();
  const change = useChangePerson(member?.id ?? "");
  const body = { role, sites: role === "owner" ? [] : given };
  const send = () =>
    member
      ? change.mutate(body, { onSuccess: onClose })
      : invite.mutate(
          { ...body, name },
          {
            onSuccess: (l) => {
              onClose();
              onMade({ name: name.trim(), token: l.token, reset: false });
            },
          },
        );
  const toggle = (id: string) => setGiven((g) => (g.includes(id) ? g.filter((x) => x !== id) : [...g, id]));
  return (
    <Sheet title={member ? `Change ${member.name}` : "Invite somebody"} open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-4"
        onSubmit={(e) => {
          e.preventDefault();
          send();
        }}
      >
        {!member && (
          <Field
            label="Name"
            name="name"
            value={name}
            onChange={(e) => setName(e.target.value)}
            autoFocus
            autoComplete="off"
            hint="The name to sign in with, as the record will show it."
          />
        )}
        <div>
          <p className="mb-1 text-small text-soft">Role</p>
          <Choice
            label="Role"
            value={role}
            onChange={setRole}
            options={roles.map((r) => [r.role, roleNames[r.role]])}
            className="flex-wrap"
          />
          <p className="mt-1 text-small text-soft">{roles.find((r) => r.role === role)?.may}</p>
        </div>
        {role !== "owner" && (
          <fieldset>
            <legend className="mb-1 text-small text-soft">Sites</legend>
            {sites.map((s) => (
              <label key={s.id} className="flex min-h-8 items-center gap-2">
                <Check checked={given.includes(s.id)} onChange={() => toggle(s.id)} label={s.name} /> {s.name}
              </label>
            ))}
          </fieldset>
        )}
        <Foot error={invite.error ?? change.error}>
          <Button look="next" type="submit" disabled={invite.isPending || change.isPending || (!member && !name.trim())}>
            {member ? "Save" : "Make the link"}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
