import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import type { Relay } from "@/api/client";
import { makePage } from "@/api/relays";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";

const day = 24 * 60 * 60 * 1000;
const ends = { "An hour": day / 24, "A day": day, "A week": 7 * day, "30 days": 30 * day, "A year": 365 * day };

/** Makes an address under which web pages play a relay, and shows it once. */
export function PageSheet({ site, relay, onClose }: { site: string; relay: Relay; onClose: () => void }) {
  const [lasts, setLasts] = useState<keyof typeof ends>("A week");
  const make = useMutation({ mutationFn: () => makePage(site, relay.id, new Date(Date.now() + ends[lasts]).toISOString()) });
  const made = make.data;
  return (
    <Sheet title={`Address for web pages of ${relay.path}`} open wide={!!made} onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        {made ? (
          <>
            <p>
              Whoever has this address sees the picture until{" "}
              <strong>{new Date(made.until).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" })}</strong>. It is not
              shown again; a new password for the relay ends it at once.
            </p>
            <Address label="A page that plays it" text={made.url} />
            <Address label="HTML that shows it within another page" text={made.embed} />
            <Address label="For players of HLS" text={made.hls} />
            <Address label="For players of WebRTC (WHEP)" text={made.whep} />
          </>
        ) : (
          <>
            <p>
              An address that plays this stream in a browser, by WebRTC or HLS, without a sign-in. Whoever it is passed on to sees the
              picture too, until it ends.
            </p>
            <label className="block">
              <span className="mb-1 block text-small text-soft">It ends after</span>
              <select
                className="h-9 w-full rounded-md border bg-sheet px-2"
                value={lasts}
                onChange={(e) => setLasts(e.target.value as keyof typeof ends)}
              >
                {Object.keys(ends).map((name) => (
                  <option key={name}>{name}</option>
                ))}
              </select>
            </label>
          </>
        )}
        <Foot error={make.error}>
          <Button onClick={onClose}>{made ? "Done" : "Cancel"}</Button>
          {!made && (
            <Button look="next" type="submit" disabled={make.isPending}>
              Make the address
            </Button>
          )}
        </Foot>
      </form>
    </Sheet>
  );
}

function Address({ label, text }: { label: string; text: string }) {
  return (
    <div>
      <p className="flex items-center justify-between gap-2 text-small text-soft">
        {label} <Copy label="Copy" text={text} />
      </p>
      <p className="mono rounded-md bg-well px-2.5 py-1.5 text-small [overflow-wrap:anywhere]">{text}</p>
    </div>
  );
}
