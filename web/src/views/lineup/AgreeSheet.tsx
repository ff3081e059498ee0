import { RadioGroup } from "radix-ui";
import { z } from "zod";
import { useAgree, useOpenLatches, useTakeCertificate } from "@/api/actions";
import type { Device } from "@/api/client";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";
import { Dot } from "@/parts/Dot";
import { useSchema } from "@/forms/useSchema";

const Schema = z.object({ breadth: z.enum(["devices", "models", "site"]) });
type Breadth = z.infer<typeof Schema>["breadth"];

/** Asks once, for a whole selection, whether its sign-ins may go out so that they can be read; then the work goes on. */
export function AgreeSheet({ site, devices, onClose }: { site: string; devices: Device[]; onClose: () => void }) {
  const form = useSchema<z.infer<typeof Schema>>(Schema, { breadth: "devices" });
  const breadth = form.watch("breadth");
  const weaker = devices.some((d) => d.next.action === "agree_weaker");
  // Over TLS only whoever answers can read it; one certificate can be looked at and taken in place of agreeing.
  const tls = devices.every((d) => d.next.wanted?.certificate);
  const shown = devices.length === 1 ? devices[0]!.next.wanted?.certificate : undefined;
  const agree = useAgree(site);
  const take = useTakeCertificate();
  const open = useOpenLatches(site);
  const takeIt = () =>
    take.mutate(
      { device: devices[0]!.id, sha256: shown ?? "" },
      { onSuccess: () => open.mutate({ devices: [devices[0]!.id] }, { onSuccess: onClose }) },
    );
  const send = form.handleSubmit((v) =>
    agree.mutate({ devices: devices.map((d) => d.id), breadth: v.breadth, weaker }, { onSuccess: onClose }),
  );
  const many = devices.length > 1;
  const models = [...new Set(devices.map((d) => [d.maker, d.model].filter(Boolean).join(" ")).filter(Boolean))];
  const choices: [Breadth, string, string][] = [
    ["devices", many ? `These ${devices.length} devices` : `${devices[0]?.name} only`, many ? "" : (devices[0]?.address ?? "")],
    [
      "models",
      models.length === 1 ? `Every ${models[0]} on this site` : `All of their ${models.length} models on this site`,
      "also those that are found later",
    ],
    ["site", "Everything on this site", "also what is found later"],
  ];
  return (
    <Sheet
      title={many ? `Send the sign-in readable to ${devices.length} devices` : `Send the sign-in readable to ${devices[0]?.name}`}
      open
      onOpenChange={(o) => !o && onClose()}
    >
      <form onSubmit={send}>
        <p>
          {weaker
            ? `${many ? "They want" : "It wants"} the sign-in in a weaker scheme than before.`
            : `${many ? "They take" : "It takes"} a sign-in only by basic, in which the password itself goes over the wire.`}
        </p>
        <p className="mt-2 border-l-4 border-stuck bg-paper px-3 py-2">
          Whoever answers at {many ? "these addresses" : "this address"}
          {tls ? "" : ", or listens on this network,"} can read the password. Agree only where you know what answers there.
          {tls && " What it is known by proves that it is the same as last time, and not whose it is."}
        </p>
        {shown && (
          <div className="mt-2 flex flex-wrap items-center gap-2">
            <p className="mono min-w-0 grow basis-60 break-all text-small">SHA-256 {shown}</p>
            <Button disabled={take.isPending} onClick={takeIt} title="Compare it with what the device shows on its own page first">
              It is its own: take it
            </Button>
          </div>
        )}
        {weaker ? (
          <p className="mt-3 text-soft">This holds for {many ? "these devices" : "this device"} alone.</p>
        ) : (
          <RadioGroup.Root
            value={breadth}
            onValueChange={(v) => form.setValue("breadth", v as Breadth)}
            aria-label="How far it reaches"
            className="mt-3 space-y-1"
          >
            {choices.map(([value, text, more]) => (
              <label
                key={value}
                className={`flex cursor-pointer items-center gap-2.5 rounded-sm px-2 py-1.5 ${breadth === value ? "bg-well" : ""}`}
              >
                <Dot value={value} />
                <span>
                  {text}
                  {more && <span className="block text-small text-soft">{more}</span>}
                </span>
              </label>
            ))}
          </RadioGroup.Root>
        )}
        <p className="mt-3 text-small text-soft">
          Kept with your name. Only work that somebody begins sends it; you can withdraw it on the bench.
        </p>
        <Foot error={agree.error ?? take.error ?? open.error}>
          <Button onClick={onClose}>Leave it</Button>
          <Button look="next" type="submit" disabled={agree.isPending}>
            Agree and go on
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
