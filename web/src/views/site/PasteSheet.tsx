import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, must } from "@/api/client";
import type { components } from "@/api/schema";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Check } from "@/parts/Check";
import { Field } from "@/forms/Field";
import { Sheet } from "@/parts/Sheet";
import { useDelayed } from "@/parts/useDelayed";
import { RadioGroup } from "radix-ui";
import { Dot } from "@/parts/Dot";
import { usePaste } from "@/api/actions";

/**
 * Takes a URL as it was copied from anywhere: says what is wrong with it and what it becomes, reads its path, and proves it with
 * its siblings.
 */
export function PasteSheet({ site, open, onOpenChange }: { site: string; open: boolean; onOpenChange: (open: boolean) => void }) {
  const [text, setText] = useState("");
  const [skip, setSkip] = useState<string[]>([]);
  const [chosen, setChosen] = useState(0);
  const [channels, setChannels] = useState("");
  const [save, setSave] = useState(true);
  const [host, setHost] = useState("");
  const [readable, setReadable] = useState(false);
  const asked = useDelayed(text, 250);
  const read = useQuery({
    // The text may hold a password: the key that outlives the sheet holds its length only.
    queryKey: ["paste", asked.length, skip, host, checksum(asked)],
    queryFn: () => must(api.POST("/api/paste", { body: { text: asked, skip, host, site } })),
    enabled: open && asked.trim() !== "",
    placeholderData: keepPreviousData,
    gcTime: 0,
    retry: false,
  });
  const urls = text.trim() ? (read.data?.urls ?? []) : [];
  const first = urls.find((u) => u.ok);
  const readings = text.trim() ? (read.data?.readings ?? []) : [];
  const reading = readings[chosen];
  const many = reading?.channels ? Math.max(1, Math.min(256, Number(channels) || 1)) : 1;
  const take = usePaste(site);
  const send = () =>
    take.mutate(
      {
        text,
        skip,
        host,
        path: reading?.path ?? "",
        name: reading?.name ?? "",
        channels: many,
        save: save && reading?.name.startsWith("learned"),
        readable: readable && !!first?.user,
      },
      {
        onSuccess: () => {
          setText("");
          onOpenChange(false);
        },
      },
    );
  const toggle = (fault: string) => setSkip((s) => (s.includes(fault) ? s.filter((f) => f !== fault) : [...s, fault]));
  return (
    <Sheet title="Paste a stream URL" open={open} onOpenChange={onOpenChange} wide>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          send();
        }}
      >
        <textarea
          name="paste"
          autoFocus
          rows={2}
          spellCheck={false}
          autoComplete="off"
          value={text}
          onChange={(e) => {
            setText(e.target.value);
            setHost("");
          }}
          aria-label="URL, or a page of notes"
          placeholder="rtsp://192.0.2.20:554/path, http://… or udp://@239.1.2.4:20000, as it was copied; or a page of notes"
          className="mono w-full rounded-md border bg-paper p-2 text-small"
        />
        {urls.slice(0, 6).map((u) => (
          <PastedUrl key={`${u.line} ${u.url ?? u.problem}`} url={u} skip={skip} toggle={toggle} choose={setHost} />
        ))}
        {urls.length > 6 && <p className="mt-2 text-soft">and {urls.length - 6} more</p>}
        {!!read.data?.without && text.trim() && (
          <p className="mt-2 text-small text-soft">
            {read.data.without === 1 ? "One line holds" : `${read.data.without} lines hold`} no URL and{" "}
            {read.data.without === 1 ? "is" : "are"} left out.
          </p>
        )}
        {read.data && text.trim() && urls.length === 0 && <p className="mt-3 text-soft">No URL stands in it.</p>}
        {readings.length > 0 && <Readings readings={readings} chosen={chosen} choose={setChosen} />}
        {reading?.channels && reading.name.startsWith("learned") && (
          <label className="mt-2 flex items-center gap-2 text-small">
            <Check checked={save} onChange={() => setSave(!save)} label="Keep the recipe in the path book" /> Keep the recipe in the path
            book once it has found streams
          </label>
        )}
        {first && first.how !== "rtsp" && <p className="mt-3 border-t pt-2 text-small text-soft">{plainWords[first.how!]}</p>}
        {first?.user && (
          <label className="mt-2 flex items-center gap-2 text-small">
            <Check checked={readable} onChange={() => setReadable(!readable)} label="It may be sent readable" /> Should this device take
            basic only, the password may be sent so that it can be read on the wire
          </label>
        )}
        <Foot error={read.error ?? take.error}>
          {reading?.channels && (
            <Field
              label="Channels to look for"
              name="channels"
              inputMode="numeric"
              className="mr-auto w-44"
              autoComplete="off"
              placeholder="1"
              value={channels}
              onChange={(e) => setChannels(e.target.value.replace(/\D/g, ""))}
            />
          )}
          {first?.user && <span className="mr-auto max-w-72 text-small text-soft">Its sign-in goes to the keyring, for this site.</span>}
          <Button onClick={() => onOpenChange(false)}>Cancel</Button>
          <Button look="next" type="submit" disabled={!first || read.isFetching || asked !== text || take.isPending}>
            {many > 1 ? `Prove ${many} channels` : "Prove it"}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}

/** What is done with a URL that is not asked for by RTSP. */
const plainWords: Record<string, string> = {
  http: "Pictures by HTTP: motion JPEG, or a picture that is asked for again and again. It becomes a stream of the camera at this address.",
  datagrams: "A transport stream that somebody sends. Unlatch listens there and asks nothing: it belongs to whoever of the site sends.",
};

type Pasted = { urls: components["schemas"]["PastedView"][]; readings: components["schemas"]["Reading"][] };

/** One URL as it was read: its parts, what was wrong with it, and which faults are mended. */
function PastedUrl({
  url: u,
  skip,
  toggle,
  choose,
}: {
  url: Pasted["urls"][number];
  skip: string[];
  toggle: (fault: string) => void;
  choose: (host: string) => void;
}) {
  return (
    <section aria-label={`URL in line ${u.line}`} className="mt-3 border-t pt-2">
      {u.ok ? (
        <div className="flex flex-wrap gap-x-1 gap-y-1.5">
          {u.segments.map((s) => (
            <span key={s.part} className="text-small">
              <span className="mono block border-b-2 border-hair bg-well px-1.5 py-0.5 break-all">
                {s.part === "sign-in" ? `${s.text}, password kept back` : s.text}
              </span>
              <span className="px-1.5 text-soft">{s.part}</span>
            </span>
          ))}
        </div>
      ) : (
        <p>
          <span className="text-stuck">{sentence(u.problem ?? "")}</span> <span className="text-soft">{sentence(u.remedy ?? "")}</span>
        </p>
      )}
      {u.hosts && (
        <div role="group" aria-label="Which address is meant" className="mt-1.5 flex flex-wrap gap-2">
          {u.hosts.map((h) => (
            <Button key={h} className="mono h-7" onClick={() => choose(h)}>
              {h}
            </Button>
          ))}
        </div>
      )}
      <ul className="mt-1 text-small">
        {u.findings.map((f) => (
          <li key={f.fault} className="flex items-center gap-2 py-0.5">
            <Check checked={!skip.includes(f.fault)} onChange={() => toggle(f.fault)} label={`Mend: ${f.problem}`} />
            <span className="grow">{sentence(f.problem)}</span>
            <span className="mono text-soft">{f.becomes}</span>
          </li>
        ))}
        {skip.map(
          (f) =>
            !u.findings.some((x) => x.fault === f) && (
              <li key={f} className="flex items-center gap-2 py-0.5 text-soft">
                <Check checked={false} onChange={() => toggle(f)} label={`Mend ${f}`} /> left as it is: {f.replaceAll("_", " ")}
              </li>
            ),
        )}
      </ul>
    </section>
  );
}

/** The ways in which the path can be read, the likeliest first. */
function Readings({ readings, chosen, choose }: { readings: Pasted["readings"]; chosen: number; choose: (n: number) => void }) {
  return (
    <div className="mt-3 border-t pt-2">
      <p className="mb-1 text-small text-soft">The path, read as a recipe:</p>
      <RadioGroup.Root
        value={String(chosen)}
        onValueChange={(v) => choose(Number(v))}
        aria-label="How the path is read"
        className="max-h-36 overflow-auto"
      >
        {readings.map((r, i) => (
          <label key={r.path} className={`flex cursor-pointer items-baseline gap-2 rounded-sm px-1 py-1 ${i === chosen ? "bg-well" : ""}`}>
            <Dot value={String(i)} />
            <span className="min-w-0 grow">
              <span className="mono break-all">{r.path}</span>{" "}
              <span className="block text-small text-soft">
                {r.name}: {r.why.join(", ")}
              </span>
            </span>
            <span className="shrink-0 text-small text-soft">
              {r.channels ? `channel ${r.channel}, ` : ""}
              {r.role}
            </span>
          </label>
        ))}
      </RadioGroup.Root>
    </div>
  );
}

const sentence = (s: string) => (s ? `${s[0]!.toUpperCase() + s.slice(1)}.` : "");

/** Tells texts apart without keeping them. */
function checksum(text: string) {
  let h = 0;
  for (let i = 0; i < text.length; i++) h = (h * 31 + text.charCodeAt(i)) | 0;
  return h;
}
