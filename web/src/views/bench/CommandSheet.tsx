import { useQuery } from "@tanstack/react-query";
import { RadioGroup } from "radix-ui";
import { useState } from "react";
import { api, must, type Device, type DeviceCommand } from "@/api/client";
import { useSendCommand } from "@/api/commands";
import { keys } from "@/api/keys";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Choice } from "@/parts/Choice";
import { Dot } from "@/parts/Dot";
import { Foot } from "@/parts/Foot";
import { inScope } from "@/parts/latches";
import { Sheet } from "@/parts/Sheet";
import { Trouble } from "@/parts/Trouble";
import { useDelayed } from "@/parts/useDelayed";

type Props = {
  site: string;
  device: Device;
  devices: Device[];
  command: DeviceCommand;
  values?: Record<string, string>;
  onClose: () => void;
};

/** What a maker's own page can be told: the values, every line that would be sent, and to which cameras. */
export function CommandSheet({ site, device, devices, command: c, values: given, onClose }: Props) {
  const [values, setValues] = useState<Record<string, string>>(() => given ?? firstValues(c));
  const [others, setOthers] = useState(false);
  const send = useSendCommand(site);
  const asked = useDelayed(values, 200);
  const dry = useQuery({
    queryKey: keys.dryRun(device.id, c.name, asked),
    queryFn: () =>
      must(
        api.POST("/api/devices/{device}/commands/try", {
          params: { path: { device: device.id } },
          body: { command: c.name, values: asked },
        }),
      ),
    retry: false,
    placeholderData: (before) => before,
  });
  const alike = devices.filter((d) => d.id !== device.id && d.model && d.model === device.model && !d.via && inScope(d));
  const list = others ? [device, ...alike] : [device];
  return (
    <Sheet title={c.name} open onOpenChange={(open) => !open && onClose()} wide>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          send.mutate({ devices: list.map((d) => d.id), command: c.name, values }, { onSuccess: onClose });
        }}
      >
        <p>{c.does}</p>
        {c.note && <p className="text-soft">{c.note}</p>}
        <div className="mt-3 flex flex-wrap items-end gap-4">
          {c.values.map((v) => (
            <Value key={v.name} value={v} is={values[v.name] ?? ""} put={(text) => setValues({ ...values, [v.name]: text })} />
          ))}
        </div>
        {alike.length > 0 && (
          <RadioGroup.Root
            value={others ? "alike" : "one"}
            onValueChange={(v) => setOthers(v === "alike")}
            aria-label="To which cameras"
            className="mt-3 space-y-1"
          >
            <label className="flex items-center gap-2">
              <Dot value="one" /> {device.name} alone
            </label>
            <label className={`flex items-center gap-2 ${c.stands ? "" : "text-soft"}`}>
              <Dot value="alike" disabled={!c.stands} /> {device.name} and {alike.length} more of its kind ({device.model})
              {!c.stands && <span className="text-small">: first try it on this one</span>}
            </label>
          </RadioGroup.Root>
        )}
        <h3 className="mt-4 border-t pt-2 text-small text-soft">
          What is sent, line by line. Before and after, {c.read.path} is read; what is set then is kept, so that it can be put back.
        </h3>
        {dry.error ? <Trouble error={dry.error} /> : <Lines run={dry.data} />}
        {c.restarts && <p className="mt-2 text-small text-soft">The device restarts after it. It is waited for.</p>}
        <Foot error={send.error}>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={send.isPending || !!dry.error}>
            {list.length > 1 ? `Send it to ${list.length} cameras` : "Send it"}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}

/** The values that a command begins with: what stands, else the first of each choice. */
function firstValues(c: DeviceCommand) {
  return Object.fromEntries(c.values.map((v) => [v.name, v.one_of?.[0] ?? String(v.from ?? "")]));
}

function Value({ value: v, is, put }: { value: DeviceCommand["values"][number]; is: string; put: (text: string) => void }) {
  const name = v.name.replaceAll("_", " ");
  if (v.one_of)
    return (
      <div>
        <div className="mb-1 text-small text-soft">{name}</div>
        <Choice label={name} value={is} onChange={put} options={v.one_of.map((o) => [o, o] as const)} className="gap-1" />
      </div>
    );
  return (
    <Field
      label={name}
      name={v.name}
      autoComplete="off"
      className="w-44"
      value={is}
      hint={v.text ? `at most ${v.text} characters` : `${v.from ?? 0} to ${v.to ?? 0}`}
      onChange={(e) => put(e.target.value)}
    />
  );
}

type DryRun = { first: string[]; token?: string; requests: string[] };

/** Every line that would be sent. */
function Lines({ run }: { run?: DryRun }) {
  if (!run) return <p className="mt-1 text-soft">…</p>;
  const parts = [
    ...run.first.map((text) => ["First, where it is on", text] as const),
    ...(run.token ? [["For its token", run.token] as const] : []),
    ...run.requests.map((text) => ["Then", text] as const),
  ];
  return (
    <ol className="mt-1 max-h-64 space-y-2 overflow-auto" data-dry-run tabIndex={0} aria-label="What is sent">
      {parts.map(([when, text], i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: the lines of one dry run never move
        <li key={i}>
          {parts.length > 1 && <span className="text-small text-soft">{when}</span>}
          <pre className="mono bg-well px-2 py-1 text-small break-all whitespace-pre-wrap">{text.trimEnd()}</pre>
        </li>
      ))}
    </ol>
  );
}
