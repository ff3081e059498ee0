import { useSeeAddresses } from "@/api/targets";
import { Button } from "@/parts/Button";
import { Trouble } from "@/parts/Trouble";

/** The host of an address where it is a name and no address in numbers; "" otherwise. */
export function nameIn(address: string) {
  const host = /^[a-z]+:\/\/([a-z0-9.-]+)/i.exec(address)?.[1] ?? "";
  return /[a-z]/i.test(host) ? host : "";
}

/**
 * Where the name of a target leads, by the name server of the machine that reaches the site. It is reached at the addresses that are shown
 * and at no others, wherever the name leads later.
 */
export function AddressesField({
  site,
  kind,
  address,
  taken,
  onSee,
}: {
  site: string;
  kind: "bridge" | "hub" | "live";
  address: string;
  taken: string[];
  onSee: (addresses: string[]) => void;
}) {
  const see = useSeeAddresses(site);
  const inside = new Set((see.data ?? []).filter((a) => a.inside).map((a) => a.address));
  return (
    <section aria-label="Where its name leads" className="space-y-2 border-y py-2">
      <div className="flex items-center gap-3">
        <p className="grow text-small text-soft">
          {taken.length > 0 ? `It is reached here, and nowhere else.` : `See where ${nameIn(address)} leads before anything is sent there.`}
        </p>
        <Button
          look={taken.length > 0 ? "plain" : "next"}
          disabled={see.isPending}
          onClick={() => see.mutate({ kind, address }, { onSuccess: (list) => onSee(list.map((a) => a.address)) })}
        >
          {see.isPending ? "Asking …" : taken.length > 0 ? "Look again" : "See where it leads"}
        </Button>
      </div>
      {taken.map((a) => (
        <p key={a} className="flex justify-between gap-3">
          <span className="mono text-small break-all">{a}</span>
          {see.data && <span className="text-small text-soft">{inside.has(a) ? "in the site’s ranges" : "beyond the site’s ranges"}</span>}
        </p>
      ))}
      <Trouble error={see.error} />
    </section>
  );
}
