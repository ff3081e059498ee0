import { useState } from "react";
import { X } from "lucide-react";
import { usePlace } from "@/api/targets";
import { StreamUserSheet } from "@/forms/StreamUserSheet";
import { CordActions } from "./CordActions";
import { Rule } from "./HubActions";
import { type Cord, cordText, reasonsText } from "@/parts/patch";
import { stillOf } from "@/parts/measures";
import { Still } from "@/parts/Still";
import { useFrame } from "@/parts/useFrame";

/** The cord in hand: what the camera sends and what the target shows, side by side, with what to do. */
export function PatchCard({ cord, onClose }: { cord: Cord; onClose: () => void }) {
  const { site } = useFrame();
  const { device, row, placement: p } = cord;
  const t = row.target;
  const [making, setMaking] = useState(false);
  // A user that may watch and nothing else is offered before an administrator's sign-in is handed out.
  const admin =
    !device.via &&
    p.from === undefined &&
    (p.whose ?? "").startsWith("the camera") &&
    device.grid?.some((r) => r.service === "device service" && r.level === "Administrator");
  const misfit = p.misfit && p.misfit.length > 0;
  return (
    <section
      aria-label={`${device.name} on ${t.name}`}
      className="flex shrink-0 items-stretch gap-4 border-t-2 border-t-ink bg-sheet px-4 py-3"
    >
      <figure className="shrink-0">
        <Still src={stillOf(device)} name={`What ${device.name} sends`} className="h-24 w-40" />
        <figcaption className="mt-1 text-small text-soft">what it sends</figcaption>
      </figure>
      <figure className="shrink-0">
        <Still src={p.still ? `/api/stills/${p.still}` : undefined} name={`What ${t.name} shows`} className="h-24 w-40" />
        <figcaption className="mt-1 text-small text-soft">{p.still ? "what it shows there" : "it shows no picture of its own"}</figcaption>
      </figure>
      <div className="min-w-0 grow">
        <p className="font-semibold">
          {device.name} → {t.name}
          {p.slot ? `, ${p.slot}` : ""}
        </p>
        <p className={p.diagnosis ? "text-stuck" : ""}>{cordText(p)}</p>
        {p.note && <p className="text-stuck">{p.note}</p>}
        {p.diagnosis?.fix && <p className="text-soft">{p.diagnosis.fix}</p>}
        {misfit && !p.diagnosis && (
          <p className="text-soft">
            It does not fit any more: {reasonsText({ device: "", target: "", verdict: "cannot", reasons: p.misfit })}
          </p>
        )}
        <p className="mt-1 truncate text-small text-soft">
          Given {p.gives.map((g) => g.role).join(" and ") || "nothing yet"}
          {p.gives[0] && <span className="mono"> {p.gives[0].url}</span>}
          {p.whose && <> with {p.whose}</>}
        </p>
        {p.relay && (
          <p className="text-small">
            Through a relay{p.as === "as it comes" ? ", as it comes" : `: ${p.as}`}. Taking it off ends the relay.
          </p>
        )}
        <p className="mt-1 flex flex-wrap items-center gap-x-4 gap-y-1 text-small text-soft">
          {!p.relay && <GivenStream cord={cord} />}
          {admin && (
            <span className="flex items-center gap-1">
              That is an administrator’s.
              <button type="button" className="text-ink underline" onClick={() => setMaking(true)}>
                Make a stream user for it
              </button>
            </span>
          )}
          {t.kind === "hub" && p.slot && <Rule device={device.id} target={t} site={site.id} />}
        </p>
        <CordActions cord={cord} />
      </div>
      {making && <StreamUserSheet site={site.id} devices={[device]} onClose={() => setMaking(false)} />}
      <button type="button" aria-label="Close" className="self-start rounded-sm p-1.5 text-soft hover:bg-well" onClick={onClose}>
        <X size={16} />
      </button>
    </section>
  );
}

/** Which of the camera's streams the target is given. */
function GivenStream({ cord: { device, row, placement: p } }: { cord: Cord }) {
  const { site } = useFrame();
  const place = usePlace(site.id);
  const t = row.target;
  return (
    <label className="flex items-center gap-1">
      It is given
      <select
        className="h-7 rounded-md border bg-sheet px-1 text-ink"
        value={p.role ?? ""}
        onChange={(e) =>
          place.mutate({
            placements: [
              {
                device: device.id,
                target: t.id,
                slot: p.wanted || undefined,
                role: (e.target.value || undefined) as "main" | undefined,
                again: true,
              },
            ],
            name: t.name,
          })
        }
      >
        <option value="">what fits</option>
        {device.streams.map((s) => (
          <option key={s.role} value={s.role}>
            the {s.role} stream
          </option>
        ))}
        {(device.snapshot || device.mjpeg) && <option value="picture">its picture over HTTP</option>}
      </select>
    </label>
  );
}
