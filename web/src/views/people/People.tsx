import { KeyRound, Plus, ShieldOff, Trash2 } from "lucide-react";
import { useState } from "react";
import { useDropFactors, useRemovePerson, useResetPerson, useStrictRoles, useWithdrawLink } from "@/api/people";
import type { Link, Member, Role } from "@/api/client";
import { usePeople, useSession, useSites } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { ago } from "@/parts/measures";
import { PageFoot } from "@/parts/PageFoot";
import { PageHead } from "@/parts/PageHead";
import { Sure } from "@/parts/Sure";
import { Trouble } from "@/parts/Trouble";
import { LinkSheet } from "./LinkSheet";
import { PersonSheet } from "./PersonSheet";
import { type Made, roleNames, roles } from "./roles";

/** Who may sign in here, as what, and on which sites. */
export function People() {
  const people = usePeople();
  const [open, setOpen] = useState<Member | "new" | null>(null);
  const [made, setMade] = useState<Made | null>(null);
  const list = people.data?.people ?? [];
  const links = people.data?.links ?? [];
  return (
    <div className="flex min-h-full flex-col">
      <PageHead title="People" />
      <main className="mx-auto w-full max-w-5xl p-4 sm:p-8">
        <div className="mb-1 flex items-center justify-between">
          <h1 className="text-xl font-semibold">People</h1>
          <Button look={list.length === 1 && links.length === 0 ? "next" : "plain"} onClick={() => setOpen("new")}>
            <Plus size={16} /> Invite somebody
          </Button>
        </div>
        <p className="mb-4 max-w-prose text-soft">
          Everybody has an account of their own, so that the record says who did what. A site that somebody is not given does not exist for
          them.
        </p>
        <Trouble error={people.error} />
        <ul className="border-t">
          {list.map((m) => (
            <Row key={m.id} member={m} onChange={() => setOpen(m)} onMade={setMade} />
          ))}
        </ul>
        {links.length > 0 && (
          <>
            <h2 className="mt-8 mb-2 font-semibold">Links that nobody has used yet</h2>
            <ul className="border-t">
              {links.map((l) => (
                <Pending key={l.id} link={l} />
              ))}
            </ul>
          </>
        )}
        <RoleTable strict={people.data?.strict_roles ?? []} />
      </main>
      <PageFoot />
      {open && <PersonSheet member={open === "new" ? undefined : open} onClose={() => setOpen(null)} onMade={setMade} />}
      {made && <LinkSheet made={made} onClose={() => setMade(null)} />}
    </div>
  );
}

function Row({ member, onChange, onMade }: { member: Member; onChange: () => void; onMade: (m: Made) => void }) {
  const own = useSession().data?.name === member.name;
  const remove = useRemovePerson();
  const reset = useResetPerson();
  return (
    <li className="grid grid-cols-[1fr_auto] items-center gap-x-4 gap-y-1 border-b py-2 sm:grid-cols-[220px_120px_1fr_auto]">
      <span className="min-w-0">
        <span className="block truncate font-medium">
          {member.name}
          {own && <span className="font-normal text-soft"> (you)</span>}
        </span>
        <span className="block text-small text-soft">
          {member.last_seen_at ? `seen ${ago(member.last_seen_at)}` : "never signed in"}
          {member.factors > 0 && ", second factor"}
        </span>
      </span>
      <span className="max-sm:order-3">{roleNames[member.role]}</span>
      <span className="min-w-0 truncate text-soft max-sm:order-4">
        <Given member={member} />
      </span>
      <span className="flex items-center justify-end gap-1">
        <Button onClick={onChange}>Change</Button>
        <Button
          look="quiet"
          className="px-2"
          aria-label={`Make a link for a new password of ${member.name}`}
          title="A link for a new password"
          disabled={reset.isPending}
          onClick={() => reset.mutate(member.id, { onSuccess: (l) => onMade({ name: member.name, token: l.token, reset: true }) })}
        >
          <KeyRound size={16} />
        </Button>
        {member.factors > 0 && <Lost member={member} />}
        <Sure
          ask={`Remove the account of ${member.name}?`}
          more="All browsers of that account are signed out at once. Work that it has begun goes on, and the record keeps the name."
          yes="Remove the account"
          onYes={() => remove.mutate(member.id)}
        >
          <Button look="quiet" className="px-2" aria-label={`Remove ${member.name}`} title="Remove the account">
            <Trash2 size={16} />
          </Button>
        </Sure>
      </span>
    </li>
  );
}

/** Takes second factors away that a person has lost. */
function Lost({ member }: { member: Member }) {
  const drop = useDropFactors();
  return (
    <Sure
      ask={`Has ${member.name} lost the second factor?`}
      more="All of them are taken away: the password alone opens the account then. Make sure that it is really they who ask."
      yes="Take them away"
      onYes={() => drop.mutate(member.id)}
    >
      <Button look="quiet" className="px-2" aria-label={`Take second factors away from ${member.name}`} title="Second factor lost">
        <ShieldOff size={16} />
      </Button>
    </Sure>
  );
}

/** The sites that a person is given, by name. */
function Given({ member }: { member: Pick<Member, "role" | "sites"> }) {
  const sites = useSites();
  if (member.role === "owner") return <>every site</>;
  const names = (sites.data ?? []).filter((s) => member.sites.includes(s.id)).map((s) => s.name);
  return <span title={names.join(", ")}>{names.length > 0 ? names.join(", ") : "no site: there is nothing to see"}</span>;
}

function Pending({ link }: { link: Link }) {
  const withdraw = useWithdrawLink();
  const hours = Math.max(1, Math.round((Date.parse(link.expires_at) - Date.now()) / 3_600_000));
  return (
    <li className="flex flex-wrap items-center gap-x-4 gap-y-1 border-b py-2">
      <span className="font-medium">{link.name}</span>
      <span>{link.person ? "new password" : roleNames[link.role]}</span>
      <span className="grow text-soft">
        made by {link.made_by}, good for {hours} more {hours === 1 ? "hour" : "hours"}
      </span>
      <Button look="quiet" onClick={() => withdraw.mutate(link.id)}>
        Withdraw
      </Button>
    </li>
  );
}

/** What each role may do, in the words of a person. */
function RoleTable({ strict }: { strict: Role[] }) {
  const change = useStrictRoles();
  const toggle = (r: Role) => change.mutate(strict.includes(r) ? strict.filter((x) => x !== r) : [...strict, r]);
  return (
    <details className="mt-8">
      <summary className="cursor-pointer text-soft hover:text-ink">What each role may do</summary>
      <dl className="mt-2 max-w-4xl">
        {roles.map((r) => (
          <div key={r.role} className="border-t py-2 sm:grid sm:grid-cols-[120px_1fr_auto] sm:gap-x-4">
            <dt className="font-medium">{roleNames[r.role]}</dt>
            <dd className="text-soft">{r.may}</dd>
            <dd>
              <label className="flex items-center gap-2">
                <Check
                  checked={strict.includes(r.role)}
                  onChange={() => toggle(r.role)}
                  label={`${roleNames[r.role]} must have a second factor`}
                />
                must have a second factor
              </label>
            </dd>
          </div>
        ))}
      </dl>
    </details>
  );
}
