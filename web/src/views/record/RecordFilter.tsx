import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import { useDevices, useRecordChoices, useSites } from "@/api/queries";
import { Button } from "@/parts/Button";
import { type Field, fields } from "./filter";

/** The fields that the record is filtered by. */
export function RecordFilter() {
  const [params, setParams] = useSearchParams();
  const choices = useRecordChoices().data;
  const sites = useSites().data ?? [];
  const site = params.get("site") ?? "";
  const set = (field: Field, value: string) =>
    setParams(
      (p) => {
        if (value) p.set(field, value);
        else p.delete(field);
        if (field === "site") p.delete("device");
        return p;
      },
      { replace: true },
    );
  return (
    <div role="search" className="mb-4 flex flex-wrap items-center gap-2">
      <Words value={params.get("text") ?? ""} onChange={(text) => set("text", text)} />
      <Pick
        all="Everybody"
        value={params.get("person")}
        onChange={(v) => set("person", v)}
        options={(choices?.people ?? []).map((p) => [p, p] as const)}
      />
      <Pick
        all="Every act"
        value={params.get("act")}
        onChange={(v) => set("act", v)}
        options={(choices?.acts ?? []).map((a) => [a.name, a.words] as const)}
      />
      <Pick all="Every site" value={site} onChange={(v) => set("site", v)} options={sites.map((s) => [s.id, s.name] as const)} />
      {site && <Devices site={site} value={params.get("device")} onChange={(v) => set("device", v)} />}
      <div className="flex items-center gap-2">
        {(["from", "to"] as const).map((f) => (
          <label key={f} className="flex items-center gap-1.5 text-soft">
            {f}
            <input
              type="date"
              value={params.get(f) ?? ""}
              onChange={(e) => set(f, e.target.value)}
              className="h-8 rounded-md border bg-sheet px-2 text-ink"
            />
          </label>
        ))}
      </div>
      {fields.some((f) => params.get(f)) && (
        <Button look="quiet" onClick={() => setParams({}, { replace: true })}>
          Show everything
        </Button>
      )}
    </div>
  );
}

type Picking = { value: string | null; onChange: (value: string) => void };

function Devices({ site, ...rest }: Picking & { site: string }) {
  const devices = useDevices(site).data ?? [];
  return <Pick all="Every device" options={devices.map((d) => [d.id, d.name || d.address] as const)} {...rest} />;
}

/** One of several, or all. */
function Pick({ all, value, onChange, options }: Picking & { all: string; options: (readonly [string, string])[] }) {
  return (
    <select
      aria-label={all}
      value={value ?? ""}
      onChange={(e) => onChange(e.target.value)}
      className="h-8 max-w-52 min-w-0 rounded-md border bg-sheet px-2 max-sm:w-full max-sm:max-w-none"
    >
      <option value="">{all}</option>
      {options.map(([v, text]) => (
        <option key={v} value={v}>
          {text}
        </option>
      ))}
    </select>
  );
}

/** Words to look for. What is typed is asked for when the typing rests. */
function Words({ value, onChange }: { value: string; onChange: (text: string) => void }) {
  const [text, setText] = useState(value);
  useEffect(() => setText(value), [value]);
  useEffect(() => {
    if (text.trim() === value) return;
    const rest = setTimeout(() => onChange(text.trim()), 300);
    return () => clearTimeout(rest);
  });
  return (
    <input
      type="search"
      aria-label="Words"
      placeholder="Words"
      value={text}
      onChange={(e) => setText(e.target.value)}
      className="h-8 w-44 rounded-md border bg-sheet px-2.5 max-sm:w-full"
    />
  );
}
