import { useSeeCertificate } from "@/api/targets";
import { Button } from "@/parts/Button";
import { Check } from "@/parts/Check";
import { Trouble } from "@/parts/Trouble";

/**
 * The certificate that is shown at the address of a target that is not added yet. Over TLS to one that a person has compared and taken,
 * a password may go; without that, nothing is sent.
 */
export function CertificateField({
  site,
  kind,
  address,
  addresses,
  taken,
  onTake,
}: {
  site: string;
  kind: "bridge" | "hub" | "live";
  address: string;
  addresses: string[];
  taken: string;
  onTake: (sha256: string) => void;
}) {
  const see = useSeeCertificate(site);
  const shown = see.data && see.variables?.address === address ? see.data : undefined;
  return (
    <section aria-label="Its certificate" className="space-y-2 border-y py-2">
      <div className="flex items-center gap-3">
        <p className="grow text-small text-soft">
          {shown ? "This is shown there now." : "Compare its certificate with the target’s own page before anything is sent to it."}
        </p>
        <Button
          disabled={see.isPending}
          onClick={() => {
            onTake("");
            see.mutate({ kind, address, addresses });
          }}
        >
          {see.isPending ? "Asking …" : shown ? "Ask again" : "See its certificate"}
        </Button>
      </div>
      {shown && (
        <>
          <p className="mono text-small break-all">{shown.sha256.match(/.{1,8}/g)?.join(" ")}</p>
          <p className="text-small text-soft">
            {shown.subject}, until {new Date(shown.until).toLocaleDateString("en-GB")}
            {shown.expired && <span className="text-stuck">, which is over</span>}
          </p>
          <div className="flex items-start gap-2">
            <Check label="It is its own certificate" checked={taken === shown.sha256} onChange={() => onTake(taken ? "" : shown.sha256)} />
            <span className="-mt-0.5 text-small">
              It is its own: I have compared it.{" "}
              <span className="text-soft">Passwords may then go to it over TLS, and to nobody else.</span>
            </span>
          </div>
        </>
      )}
      <Trouble error={see.error} />
    </section>
  );
}
