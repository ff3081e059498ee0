import { z } from "zod";
import { useTune } from "@/api/actions";
import type { Device, Stream } from "@/api/client";
import { Button } from "@/parts/Button";
import { type Field as Setting, planned, planText, type Role, typed, type Wish } from "@/parts/plan";
import { Trouble } from "@/parts/Trouble";
import { Field } from "@/forms/Field";
import { useSchema } from "@/forms/useSchema";

/** A setting as the cells of the matrix take it: what cannot be read is said in the same words. */
const setting = (field: Setting) =>
  z.string().superRefine((text, ctx) => {
    const w = typed(field, text, {});
    if ("error" in w) ctx.addIssue({ code: "custom", message: w.error });
  });

const Schema = z
  .object({ codec: setting("codec"), size: setting("size"), fps: setting("fps"), kbps: setting("kbps"), gop: setting("gop") })
  .refine((v) => Object.values(v).some((x) => x.trim() !== ""), { path: ["size"], message: "Say what shall change; the rest stays." });

/** What was typed over what is planned, as one wish: a plan is kept whole. */
function wishOver(plan: Wish | undefined, v: z.infer<typeof Schema>): Wish {
  let w: Wish = { ...plan };
  for (const [field, text] of Object.entries(v)) {
    const next = text.trim() === "" ? w : typed(field as Setting, text, w);
    if (!("error" in next)) w = next;
  }
  return w;
}

/** One stream's settings in place: what is typed is sent, read back and measured; what is left empty stays. */
export function TuneForm({ site, device: d, stream }: { site: string; device: Device; stream: Stream }) {
  const form = useSchema<z.infer<typeof Schema>>(Schema, { codec: "", size: "", fps: "", kbps: "", gop: "" });
  const tune = useTune(site);
  const e = form.formState.errors;
  const c = stream.claimed;
  const send = form.handleSubmit((v) =>
    tune.mutate(
      { devices: [d.id], plan: { [stream.role]: planText(wishOver(planned(d, stream.role as Role), v)) } },
      { onSuccess: () => form.reset() },
    ),
  );
  const t = d.tuning;
  return (
    <section className="border-t px-4 py-3" aria-label="Set the stream">
      <h3 className="mb-2 text-small text-soft">Set the {stream.role} stream; what is left empty stays</h3>
      <form onSubmit={send}>
        <div className="grid grid-cols-[1fr_1.3fr] gap-2 sm:grid-cols-[1fr_1.2fr_0.8fr_0.9fr_0.8fr]">
          <label className="block">
            <span className="mb-1 block text-small text-soft">Codec</span>
            <select {...form.register("codec")} className="h-9 w-full rounded-md border bg-sheet px-1">
              <option value="">{c.codec || "as it is"}</option>
              <option value="h264">H.264</option>
              <option value="h265">H.265</option>
              <option value="mjpeg">MJPEG</option>
              <option value="mpeg4">MPEG-4</option>
            </select>
          </label>
          <Field label="Size" {...form.register("size")} mono placeholder={`${c.width}x${c.height}`} autoComplete="off" />
          <Field label="fps" {...form.register("fps")} mono placeholder={String(c.fps)} inputMode="decimal" autoComplete="off" />
          <Field
            label="kbit/s"
            {...form.register("kbps")}
            mono
            placeholder={String(c.bitrate_kbps)}
            inputMode="numeric"
            autoComplete="off"
          />
          <Field label="GOP" {...form.register("gop")} mono placeholder={String(c.gop_frames)} inputMode="numeric" autoComplete="off" />
        </div>
        {[e.size, e.fps, e.kbps, e.gop].map(
          (x) =>
            x && (
              <p key={x.message} className="mt-1 text-small text-stuck">
                {x.message}
              </p>
            ),
        )}
        <Trouble error={tune.error} />
        <div className="mt-2 flex items-center gap-2">
          <Button type="submit" disabled={tune.isPending}>
            Set and measure
          </Button>
          {t && (
            <Button look="quiet" disabled={tune.isPending} onClick={() => tune.mutate({ devices: [d.id], undo: true })}>
              Put back what was before
            </Button>
          )}
        </div>
      </form>
      {t && (
        <ul className="mt-2 text-small" aria-label="What was set">
          {t.changes?.map((x) => (
            <li key={`${x.stream} ${x.field}`}>
              {x.stream}: {x.field.replaceAll("_", " ")} <span className="mono text-soft">{x.from}</span> →{" "}
              <span className="mono">{x.to}</span>
              {x.asked !== x.to && <span className="text-soft"> (asked for {x.asked}; it offers no nearer)</span>}
            </li>
          ))}
          {t.refused?.map((x) => (
            <li key={`${x.stream} ${x.field} refused`} className="text-stuck">
              {x.stream}: {x.asked} refused, {x.why}
            </li>
          ))}
          {t.side_effects?.map((x) => (
            <li key={x} className="text-stuck">
              {x}
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
