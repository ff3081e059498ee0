import { useState } from "react";
import type { UseFormReturn } from "react-hook-form";
import { z } from "zod";
import { useSignIns } from "@/api/queries";
import { Problem, type Target } from "@/api/client";
import { type TargetBody, type TargetSecret, seenIn, seenOf, useAddTarget, useSetTarget } from "@/api/targets";
import { Both } from "@/parts/Both";
import { Button } from "@/parts/Button";
import { AddressesField, nameIn } from "./AddressesField";
import { CertificateField } from "./CertificateField";
import { Foot } from "@/parts/Foot";
import { Check } from "@/parts/Check";
import { Choice } from "@/parts/Choice";
import { Sheet } from "@/parts/Sheet";
import { Field } from "@/forms/Field";
import { useSchema } from "@/forms/useSchema";

type Kind = TargetBody["kind"];

const kinds: { kind: Kind; name: string; about: string; address?: string; hint?: string }[] = [
  {
    kind: "bridge",
    name: "Bridge",
    about:
      "Management software, a panel, an intercom, a recorder with a protocol of its own: whatever has a bridge. It says itself what it is.",
    address: "http://192.0.2.10:8081",
    hint: "where the bridge answers",
  },
  {
    kind: "hub",
    name: "Home hub",
    about: "A hub that listens on an MQTT broker: mqtts:// with TLS, mqtt:// without.",
    address: "mqtt://192.0.2.10:1883",
    hint: "of its broker",
  },
  { kind: "feed", name: "Screens", about: "Any number of screens that take one list from one address." },
  { kind: "template", name: "Anything else", about: "Text from a template of your own, for a file or the clipboard." },
  {
    kind: "live",
    name: "Live platform",
    about: "A recorder sends one of its channels there.",
    address: "https://192.0.2.10",
    hint: "where the platform says whether you are live",
  },
];

const Schema = z.object({
  name: z.string().trim(),
  address: z.string().trim(),
  user: z.string().trim(),
  secret: z.string(),
  sign_in: z.string(),
  ingest: z.string().trim(),
  stream: z.enum(["main", "sub"]),
  via: z.string(),
  topic: z.string().trim(),
});
type Values = z.infer<typeof Schema>;

const select = "h-9 w-full rounded-md border bg-sheet px-2";

/** What was typed, as Both shows it. */
const fieldsOf = ({ name, address, ingest, topic }: Values) =>
  Object.fromEntries(Object.entries({ name, address, ingest, topic }).filter(([, text]) => text));

/** Adds a target, or changes one. It asks the least: an address and a sign-in; what it is, the target says. */
export function TargetSheet({
  site,
  open,
  onOpenChange,
  targets,
  target,
}: {
  site: string;
  open: boolean;
  onOpenChange: (o: boolean) => void;
  targets: Target[];
  target?: Target;
}) {
  const [kind, setKind] = useState<Kind>((target?.kind as Kind) ?? "bridge");
  const [shared, setShared] = useState(target?.shared ?? false);
  const [agreed, setAgreed] = useState<TargetSecret[]>([]);
  const toggle = (s: TargetSecret) => setAgreed(agreed.includes(s) ? agreed.filter((x) => x !== s) : [...agreed, s]);
  const [renewed, setRenewed] = useState(false);
  const [certificate, setCertificate] = useState("");
  const [elsewhere, setElsewhere] = useState(target?.settings.elsewhere === "yes");
  const add = useAddTarget(site);
  const set = useSetTarget(site);
  const pushers = targets.filter((t) => t.about?.abilities?.includes("push"));
  const form = useSchema<Values>(Schema, {
    name: target?.name ?? "",
    address: target?.address ?? "",
    user: "",
    secret: "",
    sign_in: target?.sign_in ?? "",
    ingest: target?.settings.ingest ?? "",
    stream: target?.settings.stream === "main" ? "main" : "sub",
    via: target?.via ?? pushers[0]?.id ?? "",
    topic: target?.settings.topic ?? "",
  });
  const [seen, setSeen] = useState(target && seenOf(target));
  const about = kinds.find((k) => k.kind === kind)!;
  const address = form.watch("address");
  const [where, setWhere] = useState({ name: nameIn(target?.address ?? ""), addresses: target?.addresses ?? [] });
  const addresses = where.name === nameIn(address) ? where.addresses : [];
  const tls = /^(https|mqtts):\/\/[^/]/.test(address);
  const send = (was = seen) =>
    form.handleSubmit((v) => {
      const settings: Record<string, string> = { ...(kind === "template" ? target?.settings : {}) };
      if (kind === "live") Object.assign(settings, { ingest: v.ingest, stream: v.stream });
      Object.assign(settings, { elsewhere: elsewhere ? "yes" : "" }, kind === "hub" && v.topic && { topic: v.topic });
      const own = v.sign_in === "";
      const body: TargetBody = {
        name: v.name,
        kind,
        address: about.address ? v.address : undefined,
        addresses: addresses.length > 0 ? addresses : undefined,
        sign_in: v.sign_in || undefined,
        user: own && v.user ? v.user : undefined,
        secret: own && v.secret ? v.secret : undefined,
        intake: target?.intake,
        via: kind === "live" ? v.via || undefined : undefined,
        settings,
        shared,
        agree: target || agreed.length === 0 ? undefined : agreed,
        new_certificate: renewed || undefined,
        certificate: (!target && tls && certificate) || undefined,
        was,
      };
      const done = { onSuccess: () => onOpenChange(false) };
      if (target) set.mutate({ ...body, target: target.id }, done);
      else add.mutate(body, done);
    })();
  const other = set.error instanceof Problem ? set.error.changed : undefined;
  return (
    <Sheet title={target ? `Change ${target.name}` : "Add a target"} open={open} onOpenChange={onOpenChange}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void send();
        }}
        className="space-y-3"
      >
        {!target && (
          <Choice
            label="Kind"
            value={kind}
            onChange={setKind}
            options={kinds.map((k) => [k.kind, k.name] as const)}
            className="flex-wrap gap-1"
          />
        )}
        <p className="text-soft">{about.about}</p>
        {about.address && <Field label={`Address, ${about.hint}`} placeholder={about.address} mono {...form.register("address")} />}
        {about.address && nameIn(address) && (
          <AddressesField
            site={site}
            kind={kind as "bridge" | "hub" | "live"}
            address={address}
            taken={addresses}
            onSee={(list) => setWhere({ name: nameIn(address), addresses: list })}
          />
        )}
        <Field label={about.address ? "Name (it tells its own where this is empty)" : "Name"} {...form.register("name")} />
        {kind === "live" && <LiveFields form={form} pushers={pushers} />}
        {about.address && (
          <>
            <SignInFields form={form} secret={kind === "live" ? "Stream key" : "Password"} />
            {!target && tls && (
              <CertificateField
                site={site}
                kind={kind as "bridge" | "hub" | "live"}
                address={address}
                addresses={addresses}
                taken={certificate}
                onTake={setCertificate}
              />
            )}
            {!target && kind !== "live" && !certificate && <AgreeTicks hub={kind === "hub"} agreed={agreed} toggle={toggle} />}
          </>
        )}
        <SharedTick kind={kind} shared={shared} onChange={setShared} />
        <ElsewhereTick kind={kind} elsewhere={elsewhere} onChange={setElsewhere} />
        {target?.certificate && <RenewTick certificate={target.certificate} renewed={renewed} onChange={setRenewed} />}
        {about.address && (
          <p className="text-small text-soft">
            Connections leave to {addresses.length > 1 ? "these addresses and this" : "this one address and"} port besides the site’s
            ranges. That is kept with your name.
          </p>
        )}
        {other && target && (
          <Both
            changed={other}
            mine={fieldsOf(form.getValues())}
            onTheirs={() => {
              form.reset({ ...form.getValues(), ...other.now });
              setSeen(seenIn(other.now));
              set.reset();
            }}
            onMine={() => void send(seenIn(other.now))}
          />
        )}
        <Foot error={add.error ?? (other ? null : set.error)}>
          <Button onClick={() => onOpenChange(false)}>Leave it</Button>
          <Button
            look={about.address && nameIn(address) && addresses.length === 0 ? "plain" : "next"}
            type="submit"
            disabled={add.isPending || set.isPending}
          >
            {target ? "Keep" : "Add it"}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}

function ElsewhereTick({ kind, elsewhere, onChange }: { kind: Kind; elsewhere: boolean; onChange: (on: boolean) => void }) {
  if (kind === "live") return null;
  return (
    <div className="flex items-start gap-2">
      <Check label="It stands outside the site" checked={elsewhere} onChange={() => onChange(!elsewhere)} />
      <span className="-mt-0.5 text-small">
        It stands outside the site.
        {elsewhere && (
          <span className="block text-soft">It is given URLs with the site’s outside address: plan the ports under Outside.</span>
        )}
      </span>
    </div>
  );
}

function SharedTick({ kind, shared, onChange }: { kind: Kind; shared: boolean; onChange: (on: boolean) => void }) {
  return (
    <div className="flex items-start gap-2">
      <Check label="Other sites may use it too" checked={shared} onChange={() => onChange(!shared)} />
      <span className="-mt-0.5 text-small">
        Other sites may use it too.
        {kind === "feed" && shared && (
          <span className="block text-stuck">
            All screens take one list then: it holds the cameras of every site that uses it, with the sign-ins of their streams.
          </span>
        )}
      </span>
    </div>
  );
}

function RenewTick({ certificate, renewed, onChange }: { certificate: string; renewed: boolean; onChange: (on: boolean) => void }) {
  return (
    <div className="flex items-start gap-2">
      <Check label="Take a new certificate" checked={renewed} onChange={() => onChange(!renewed)} />
      <span className="-mt-0.5 text-small">
        Take a new certificate.{" "}
        <span className="text-soft">
          It is known by <span className="mono">{certificate.slice(0, 12)}…</span>; another one gets no sign-in.
        </span>
      </span>
    </div>
  );
}

/** The sign-in of a target: one of the keyring, or a new one. */
function SignInFields({ form, secret }: { form: UseFormReturn<Values>; secret: "Stream key" | "Password" }) {
  const signIns = useSignIns();
  const own = form.watch("sign_in") === "";
  return (
    <>
      <label className="block">
        <span className="mb-1 block text-small text-soft">Its sign-in{secret === "Stream key" && "; the password is the stream key"}</span>
        <select className={select} {...form.register("sign_in")}>
          <option value="">a new one, typed here</option>
          {(signIns.data ?? []).map((s) => (
            <option key={s.id} value={s.id}>
              {s.label} ({s.user})
            </option>
          ))}
        </select>
      </label>
      {own && (
        <div className="grid grid-cols-2 gap-2">
          <Field label="User" autoComplete="off" {...form.register("user")} />
          <Field label={secret} type="password" autoComplete="new-password" {...form.register("secret")} />
        </div>
      )}
    </>
  );
}

/** What a live platform needs besides: where to, by way of what, which stream. */
function LiveFields({ form, pushers }: { form: UseFormReturn<Values>; pushers: Target[] }) {
  return (
    <>
      <Field label="Ingest address, without the key" placeholder="rtmp://192.0.2.10/live" mono {...form.register("ingest")} />
      <label className="block">
        <span className="mb-1 block text-small text-soft">The recorder that sends to it</span>
        <select className={select} {...form.register("via")}>
          <option value="">none yet</option>
          {pushers.map((t) => (
            <option key={t.id} value={t.id}>
              {t.name}
            </option>
          ))}
        </select>
      </label>
      <label className="block">
        <span className="mb-1 block text-small text-soft">Which stream goes there</span>
        <select className={select} {...form.register("stream")}>
          <option value="sub">the sub stream</option>
          <option value="main">the main stream</option>
        </select>
      </label>
    </>
  );
}

/** What may go to a new target so that it can be read. */
function AgreeTicks({ hub, agreed, toggle }: { hub: boolean; agreed: TargetSecret[]; toggle: (s: TargetSecret) => void }) {
  return (
    <>
      <div className="flex items-start gap-2">
        <Check label="Its sign-in may go out readable" checked={agreed.includes("sign_in")} onChange={() => toggle("sign_in")} />
        <span className="-mt-0.5 text-small">
          Its own sign-in may go out so that it can be read on the wire.{" "}
          <span className="text-soft">
            Only where the target takes no other and you trust this network
            {hub ? "; a broker without TLS takes no other" : ""}.
          </span>
        </span>
      </div>
      <div className="flex items-start gap-2">
        <Check
          label="Sign-ins of cameras may go to it readable"
          checked={agreed.includes("camera_sign_ins")}
          onChange={() => toggle("camera_sign_ins")}
        />
        <span className="-mt-0.5 text-small">
          The sign-ins of cameras may go to it so that they can be read on the wire.{" "}
          <span className="text-soft">Without TLS there is no other way; you can take it back on its page.</span>
        </span>
      </div>
    </>
  );
}
