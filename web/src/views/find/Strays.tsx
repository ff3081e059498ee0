import { useState } from "react";
import { useNavigate } from "react-router";
import { z } from "zod";
import type { Device } from "@/api/client";
import { useConsent } from "@/api/actions";
import { useGuidance } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { Field } from "@/forms/Field";
import { useSchema } from "@/forms/useSchema";
import { ListShelf } from "./ListShelf";
import { ago } from "@/parts/measures";
import { useFrame } from "@/parts/useFrame";

const Schema = z.object({ reason: z.string().trim().min(1, "Say why: it is kept with your name.") });

/** Devices heard outside the ranges: shown, and not connected to. */
export function Strays({ devices, all }: { devices: Device[]; all: Device[] }) {
  const { site, changeSite } = useFrame();
  const go = useNavigate();
  const [why, setWhy] = useState(false);
  return (
    <aside aria-label="Strays" className="w-full shrink-0 bg-sheet max-lg:border-t lg:overflow-auto lg:border-l px-4 py-3 lg:w-72">
      <h2 className="font-semibold">
        Strays <span className="num font-normal text-soft">{devices.length}</span>
      </h2>
      {devices.length === 0 ? (
        <p className="mt-1 text-soft">Nothing was heard outside the ranges.</p>
      ) : (
        <>
          <p className="mt-1 mb-2 text-small text-soft">
            Heard on this wire at addresses outside the ranges. Unlatch does not connect to them.{" "}
            {!why && (
              <button type="button" className="underline hover:text-ink" onClick={() => setWhy(true)}>
                Why?
              </button>
            )}
          </p>
          {why && (
            <p className="mb-2 text-small">
              A camera fresh from the box comes up at its factory address. Give it an address inside the ranges, or add its range to the
              site if it belongs there.
            </p>
          )}
          <ul className="border-t">
            {devices.map((d) => (
              <li key={d.id} className="border-b py-2" data-stray={d.address}>
                <div className="mono">{d.address}</div>
                <div>{d.name}</div>
                <div className="text-small text-soft">
                  {d.kind}, {d.methods.join(", ")}, {ago(d.heard_at)}
                </div>
                <Reach device={d} />
              </li>
            ))}
          </ul>
          <Button className="mt-3" onClick={changeSite}>
            Change the ranges
          </Button>
        </>
      )}
      <ListShelf site={site.id} devices={all} choose={(id) => go(`/sites/${site.id}?device=${id}`)} />
    </aside>
  );
}

/** Reaching a stray takes an explicit consent that names its address and a reason; it ends by itself. */
function Reach({ device: d }: { device: Device }) {
  const { site } = useFrame();
  const [asking, setAsking] = useState(false);
  const form = useSchema(Schema, { reason: "New camera, to be given an address of this site" });
  const consent = useConsent(site.id, d.id);
  const go = useNavigate();
  if (d.consent)
    return (
      <div className="mt-1 flex flex-wrap items-center gap-2 text-small">
        <span className="text-open">
          Open until {new Date(d.consent).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", hour12: false })}
        </span>
        <Button look="next" className="h-7" onClick={() => go(`/sites/${site.id}?device=${d.id}`)}>
          To the bench
        </Button>
        <Button look="quiet" className="h-7" onClick={() => consent.mutate(null)}>
          Close again
        </Button>
      </div>
    );
  if (!asking)
    return (
      <Button className="mt-1 h-7" onClick={() => setAsking(true)}>
        Reach it …
      </Button>
    );
  return (
    <form
      className="mt-2 space-y-2 border-l-4 border-brass pl-3"
      onSubmit={form.handleSubmit(({ reason }) => consent.mutate({ address: d.address, reason }))}
    >
      <Guide device={d} />
      <Field label="Why" {...form.register("reason")} error={form.formState.errors.reason?.message} hint="Kept with your name." />
      <Button look="next" type="submit" disabled={consent.isPending}>
        Connect to {d.address} for 30 min
      </Button>
      <Button look="quiet" onClick={() => setAsking(false)}>
        Leave it
      </Button>
    </form>
  );
}

/**
 * Which address the machine needs first whose worker reaches the site, with the exact command. Unlatch does not change its network by
 * itself.
 */
function Guide({ device: d }: { device: Device }) {
  const guide = useGuidance(d.id);
  const g = guide.data;
  if (!g) return null;
  if (g.reachable)
    return (
      <p className="text-small text-soft">
        {g.machine} has an address in that subnet ({g.interface}).
      </p>
    );
  if (!g.command)
    return (
      <p className="text-small text-stuck">
        {g.machine} has no network card in use from which {d.address} could be reached.
      </p>
    );
  return (
    <div className="text-small">
      <p>
        The worker of this site runs on {g.machine}, which has no address in that subnet. Add it there first, to {g.interface}:{" "}
        <span className="mono">{g.add}</span>
      </p>
      <p className="mono my-1 bg-well px-2 py-1 break-all">{g.command}</p>
      <Copy text={g.command} label="Copy" /> <Copy text={g.undo ?? ""} label="Copy the command that takes it back" />
    </div>
  );
}
