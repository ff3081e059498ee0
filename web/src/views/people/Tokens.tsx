import { Plus } from "lucide-react";
import { useState } from "react";
import { useRevokeToken } from "@/api/people";
import type { Token } from "@/api/client";
import { useSession, useSites, useTokens } from "@/api/queries";
import { Button } from "@/parts/Button";
import { ago } from "@/parts/measures";
import { Sure } from "@/parts/Sure";
import { Trouble } from "@/parts/Trouble";
import { roleNames } from "./roles";
import { TokenSheet } from "./TokenSheet";

/** The API tokens by which programs act for people: one's own, and for owners everybody's. */
export function Tokens() {
  const tokens = useTokens();
  const [open, setOpen] = useState(false);
  return (
    <section>
      <div className="mb-1 flex items-center justify-between gap-4">
        <h2 className="font-semibold">For programs</h2>
        <Button onClick={() => setOpen(true)}>
          <Plus size={16} /> Make a token
        </Button>
      </div>
      <p className="mb-2 max-w-prose text-soft">
        With an API token, the command line or a script does what you may do, and never more. It stands in the record with its name.
      </p>
      <Trouble error={tokens.error} />
      {tokens.data?.length === 0 && <p className="border-y py-6 text-center text-soft">No token yet.</p>}
      <ul className={tokens.data?.length ? "border-t" : ""}>
        {tokens.data?.map((t) => (
          <Row key={t.id} token={t} />
        ))}
      </ul>
      {open && <TokenSheet onClose={() => setOpen(false)} />}
    </section>
  );
}

function Row({ token }: { token: Token }) {
  const own = useSession().data?.name === token.of;
  const sites = useSites();
  const revoke = useRevokeToken();
  const names = token.sites ? (sites.data ?? []).filter((s) => token.sites!.includes(s.id)).map((s) => s.name) : ["all sites"];
  const day = new Date(token.expires_at).toLocaleDateString([], { day: "numeric", month: "long", year: "numeric" });
  return (
    <li className="grid grid-cols-[1fr_auto] items-center gap-x-4 border-b py-2 sm:grid-cols-[200px_1fr_auto]">
      <span className="min-w-0">
        <span className="block truncate font-medium">{token.name}</span>
        <span className="mono block truncate text-small text-soft">{token.start}…</span>
      </span>
      <span className="min-w-0 text-soft max-sm:order-3">
        <span className="block truncate">
          {roleNames[token.role]}, {names.join(", ")}
          {!own && `, made by ${token.of}`}
        </span>
        <span className="block text-small">
          until {day}, {token.last_used_at ? `used ${ago(token.last_used_at)}` : "not used yet"}
        </span>
      </span>
      <Sure
        ask={`Revoke ${token.name}?`}
        more="What uses it is refused from then on, and streams that it listens to end. Work that it has begun goes on."
        yes="Revoke it"
        onYes={() => revoke.mutate(token.id)}
      >
        <Button look="quiet">Revoke</Button>
      </Sure>
    </li>
  );
}
