import { useState } from "react";
import type { Listener, TellRule } from "@/api/client";
import { useDeleteTellRule, usePutTellRule, useTestTelling, type useTellings } from "@/api/drifts";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { ago } from "@/parts/measures";
import { Sheet } from "@/parts/Sheet";
import { Tick } from "./Tick";

type Messages = NonNullable<ReturnType<typeof useTellings>["data"]>["messages"];
type Props = { site: string; rule?: TellRule; messages: Messages; onClose: () => void };

const fresh: Listener = { name: "", way: "mail", to: "", server: "", sender: "", from: "urgent" };

/** Says who hears what of the site, and shows what became of it. */
export function TellSheet({ site, rule, messages, onClose }: Props) {
  const [draft, setDraft] = useState<Listener>(rule?.rule ?? fresh);
  const [secret, setSecret] = useState("");
  const [id] = useState(() => rule?.id ?? crypto.randomUUID());
  const put = usePutTellRule(site);
  const remove = useDeleteTellRule(site);
  const test = useTestTelling(site);
  const change = (more: Partial<Listener>) => setDraft({ ...draft, ...more });
  return (
    <Sheet title={rule ? rule.rule.name : "Tell somebody"} open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate({ id, rule: draft, secret }, { onSuccess: onClose });
        }}
      >
        <Field label="Name" name="name" placeholder="Duty phone" value={draft.name} onChange={(e) => change({ name: e.target.value })} />
        <div className="grid grid-cols-2 gap-3">
          <Choose label="How" value={draft.way} onChange={(way) => change({ way: way as Listener["way"] })} from={ways} />
          <Choose label="What" value={draft.from} onChange={(from) => change({ from: from as Listener["from"] })} from={severities} />
        </div>
        <Where draft={draft} change={change} secret={secret} setSecret={setSecret} kept={!!rule?.secret} />
        <Tick label="Also what people and programs do at the site" checked={!!draft.acts} onChange={(acts) => change({ acts })} />
        <Tick
          label="Also what is wrong with the server itself, such as a backup that failed"
          checked={!!draft.installation}
          onChange={(installation) => change({ installation })}
        />
        <div className="flex flex-wrap items-center gap-2">
          <Tick label="Once a day, and not at once" checked={!!draft.digest} onChange={(digest) => change({ digest, digest_hour: 6 })} />
          {draft.digest && (
            <label className="flex items-center gap-2 text-small">
              at
              <input
                type="number"
                min={0}
                max={23}
                value={draft.digest_hour ?? 0}
                onChange={(e) => change({ digest_hour: Number(e.target.value) })}
                className="num h-8 w-16 rounded-md border bg-sheet px-2"
              />
              h UTC
            </label>
          )}
        </div>
        {messages.length > 0 && <Sent messages={messages} />}
        <Foot error={put.error}>
          {rule && (
            <>
              <Button look="danger" onClick={() => remove.mutate(rule.id, { onSuccess: onClose })}>
                Remove
              </Button>
              <Button disabled={test.isPending} onClick={() => test.mutate(rule.id)}>
                Send a test
              </Button>
              <span className="grow" />
            </>
          )}
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={put.isPending || !draft.name.trim() || !draft.to.trim()}>
            Save
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}

const ways = { mail: "Mail", webhook: "Webhook", mqtt: "MQTT" };
const severities = { urgent: "Urgent only", warning: "Warnings and urgent", notice: "Everything" };

type Change = (more: Partial<Listener>) => void;
type WhereProps = { draft: Listener; change: Change; secret: string; setSecret: (s: string) => void; kept: boolean };

/** Where messages go, by the way that they take. */
function Where({ draft, change, secret, setSecret, kept }: WhereProps) {
  const hint = kept ? "Kept as it is where nothing is typed" : undefined;
  const password = (label: string, why?: string) => (
    <Field
      label={label}
      name="secret"
      type="password"
      autoComplete="off"
      hint={hint ?? why}
      value={secret}
      onChange={(e) => setSecret(e.target.value)}
    />
  );
  const text = (label: string, name: "to" | "server" | "sender" | "user", placeholder: string) => (
    <Field
      label={label}
      name={name}
      mono
      autoComplete="off"
      placeholder={placeholder}
      value={draft[name] ?? ""}
      onChange={(e) => change({ [name]: e.target.value })}
    />
  );
  if (draft.way === "webhook")
    return (
      <>
        {text("Address", "to", "https://desk.example.org/in")}
        {password("Secret for the signature", "Each request carries an HMAC-SHA256 over its time and body")}
      </>
    );
  if (draft.way === "mqtt")
    return (
      <>
        {text("Topic", "to", "unlatch/tarn-ferry")}
        {text("Broker", "server", "mqtts://hub.example.org:8883")}
        {text("User, if it wants one", "user", "")}
        {draft.user && password("Password")}
      </>
    );
  return (
    <>
      {text("To", "to", "duty@example.org, second@example.org")}
      {text("From", "sender", "bench@example.org")}
      {text("Mail server", "server", "smtp://mail.example.org:587")}
      {text("User, if it wants one", "user", "")}
      {draft.user && password("Password", "Goes out over TLS only")}
    </>
  );
}

type ChooseProps = { label: string; value: string; from: Record<string, string>; onChange: (v: string) => void };

function Choose({ label, value, from, onChange }: ChooseProps) {
  return (
    <label className="block">
      <span className="mb-1 block text-small text-soft">{label}</span>
      <select value={value} onChange={(e) => onChange(e.target.value)} className="h-9 w-full rounded-md border bg-sheet px-2">
        {Object.entries(from).map(([v, name]) => (
          <option key={v} value={v}>
            {name}
          </option>
        ))}
      </select>
    </label>
  );
}

/** What became of the last messages. */
function Sent({ messages }: { messages: Messages }) {
  return (
    <section className="text-small">
      <h3 className="mb-1 text-soft">Last messages</h3>
      <ul className="max-h-40 divide-y overflow-auto border-y">
        {messages.slice(0, 10).map((m) => (
          <li key={m.id} className="py-1">
            <span className="block break-words">{m.headline}</span>
            <span className={m.problem ? "text-stuck" : "text-soft"}>
              {m.done ? `arrived ${ago(m.done)}` : m.given_up ? "not sent: " : m.tries ? "waiting: " : "on the way"}
              {!m.done && m.problem}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
