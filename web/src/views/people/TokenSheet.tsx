import { useState } from "react";
import { useMakeToken } from "@/api/people";
import type { Role } from "@/api/client";
import { useSession, useSites } from "@/api/queries";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { Choice } from "@/parts/Choice";
import { Copy } from "@/parts/Copy";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { roleNames, roles } from "./roles";

const lives = { "7": "a week", "30": "30 days", "90": "90 days", "365": "a year" } as const;

/** Makes an API token and shows it once. */
export function TokenSheet({ onClose }: { onClose: () => void }) {
  const own = useSession().data?.role as Role | undefined;
  const sites = useSites().data ?? [];
  const narrower = roles.slice(
    Math.max(
      0,
      roles.findIndex((r) => r.role === own),
    ),
  );
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>(own === "owner" ? "engineer" : (own ?? "viewer"));
  const [given, setGiven] = useState<string[] | null>(null);
  const [days, setDays] = useState<keyof typeof lives>("90");
  const make = useMakeToken();
  const send = () =>
    make.mutate({
      name,
      role,
      ...(given && role !== "owner" ? { sites: given } : {}),
      expires_at: new Date(Date.now() + Number(days) * 86_400_000).toISOString(),
    });
  if (make.data) return <Made name={name} token={make.data.token} onClose={onClose} />;
  const toggle = (id: string) => setGiven((g) => (g?.includes(id) ? g.filter((x) => x !== id) : [...(g ?? []), id]));
  return (
    <Sheet title="An API token" open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-4"
        onSubmit={(e) => {
          e.preventDefault();
          send();
        }}
      >
        <Field
          label="Name"
          name="name"
          value={name}
          onChange={(e) => setName(e.target.value)}
          autoFocus
          autoComplete="off"
          hint="What it is for, as the record will show it."
        />
        <div>
          <p className="mb-1 text-small text-soft">What it may do</p>
          <Choice
            label="Role"
            value={role}
            onChange={setRole}
            options={narrower.map((r) => [r.role, roleNames[r.role]])}
            className="flex-wrap"
          />
          <p className="mt-1 text-small text-soft">{roles.find((r) => r.role === role)?.may}</p>
        </div>
        {role !== "owner" && (
          <fieldset>
            <legend className="mb-1 text-small text-soft">Sites</legend>
            <label className="flex min-h-8 items-center gap-2">
              <Check checked={!given} onChange={() => setGiven(given ? null : sites.map((s) => s.id))} label="All of mine" /> All of mine,
              also later ones
            </label>
            {given &&
              sites.map((s) => (
                <label key={s.id} className="flex min-h-8 items-center gap-2 pl-6">
                  <Check checked={given.includes(s.id)} onChange={() => toggle(s.id)} label={s.name} /> {s.name}
                </label>
              ))}
          </fieldset>
        )}
        <div>
          <p className="mb-1 text-small text-soft">Good for</p>
          <Choice label="Good for" value={days} onChange={setDays} options={Object.entries(lives) as [keyof typeof lives, string][]} />
        </div>
        <Foot error={make.error}>
          <Button look="next" type="submit" disabled={make.isPending || !name.trim()}>
            Make the token
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}

function Made({ name, token, onClose }: { name: string; token: string; onClose: () => void }) {
  const login = `unlatch login ${location.origin}`;
  return (
    <Sheet title={`The token ${name.trim()}`} open onOpenChange={(o) => !o && onClose()}>
      <p className="mb-3">Copy it now: it is not shown again. Whoever has it can do what it may do.</p>
      <p className="mono border-y py-3 break-all" data-token>
        {token}
      </p>
      <div className="mt-2">
        <Copy text={token} label="Copy the token" />
      </div>
      <p className="mt-4 mb-1 text-soft">On the command line, type this and paste the token:</p>
      <p className="mono text-small break-all">{login}</p>
      <Foot>
        <Copy text={login} label="Copy the command" />
        <Button look="next" onClick={onClose}>
          I have kept it
        </Button>
      </Foot>
    </Sheet>
  );
}
