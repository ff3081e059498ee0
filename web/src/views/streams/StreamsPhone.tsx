import { Undo2 } from "lucide-react";
import { useState } from "react";
import type { Device } from "@/api/client";
import { Button } from "@/parts/Button";
import { type Drafts, put, wishOf } from "./matrix";
import { stillOf } from "@/parts/measures";
import { cellText, fields, measuredText, planned, type Role, roles, signOf } from "@/parts/plan";
import { Still } from "@/parts/Still";

const signs = { meets: "=", differs: "≠", unknown: "?", off: "–", none: "" };

/** One camera's streams at phone width: what is wanted beside what was measured, and the same preview. */
export function StreamsPhone({
  devices,
  drafts,
  set,
  undo,
  unmet,
  preview,
}: {
  devices: Device[];
  drafts: Drafts;
  set: (d: Drafts) => void;
  undo?: () => void;
  unmet: number;
  preview: () => void;
}) {
  const [id, setId] = useState(devices[0]!.id);
  const d = devices.find((x) => x.id === id) ?? devices[0]!;
  const row = devices.indexOf(d);
  const shown = roles.filter((r) => r !== "third" || d.plan?.third || d.streams.some((s) => s.role === "third"));
  return (
    <div className="flex h-full flex-col">
      <div className="min-h-0 grow space-y-4 overflow-auto p-4">
        <label className="block">
          <span className="mb-1 block text-small text-soft">Camera</span>
          <select
            value={d.id}
            onChange={(e) => setId(e.target.value)}
            className="h-11 w-full rounded-md border bg-sheet px-2 text-lead font-semibold"
          >
            {devices.map((x) => (
              <option key={x.id} value={x.id}>
                {x.name}
              </option>
            ))}
          </select>
        </label>
        <Still src={stillOf(d)} name={d.name} className="aspect-video w-full" />
        {shown.map((role) => (
          <StreamCard
            key={`${d.id} ${role}`}
            d={d}
            role={role}
            drafts={drafts}
            change={(col, text) => {
              const out = put(
                drafts,
                devices,
                fields.map(({ field }) => ({ role, field })),
                [{ row, col, text }],
              );
              if (out.bad.length > 0) return out.bad[0]!.error;
              set(out.drafts);
              return "";
            }}
          />
        ))}
      </div>
      <div className="flex shrink-0 items-center gap-2 border-t bg-sheet px-4 py-2.5">
        <Button look={unmet > 0 ? "next" : "plain"} className="h-11 grow" disabled={unmet === 0} onClick={preview}>
          {unmet === 0 ? "Nothing to send" : `Preview ${unmet} ${unmet === 1 ? "camera" : "cameras"}`}
        </Button>
        {undo && (
          <Button className="size-11" aria-label="Undo" onClick={undo}>
            <Undo2 size={18} />
          </Button>
        )}
      </div>
    </div>
  );
}

function StreamCard({ d, role, drafts, change }: { d: Device; role: Role; drafts: Drafts; change: (col: number, text: string) => string }) {
  const stream = d.streams.find((s) => s.role === role);
  const [bad, setBad] = useState("");
  const whose = d.plan?.[role]?.whose;
  return (
    <section aria-label={`${role} stream`} className="border-t pt-3">
      <h2 className="mb-2 flex items-baseline justify-between font-semibold">
        {role === "main" ? "Main" : role === "sub" ? "Sub" : "Third"} stream
        <span className="text-small font-normal text-soft">
          {drafts.get(d.id)?.[role] ? "typed, not sent" : whose ? `the plan is ${whose}` : stream ? "no plan" : "it has none"}
        </span>
      </h2>
      <div className="grid grid-cols-[1fr_1fr_auto] items-center gap-x-3 gap-y-1.5">
        <span />
        <span className="text-small text-soft">wanted</span>
        <span className="text-right text-small text-soft">measured</span>
        {fields.map(({ field, long }, col) => {
          const text = cellText(field, wishOf(d, role, drafts));
          const changed = text !== cellText(field, planned(d, role));
          const sign = changed ? "none" : signOf(d, role, field);
          return (
            <div key={field} className="contents">
              <span>{long}</span>
              <input
                key={text}
                defaultValue={text}
                aria-label={`${role} stream, ${long}`}
                placeholder="as it is"
                onBlur={(e) => e.target.value !== text && setBad(change(col, e.target.value))}
                className={`mono h-10 w-full min-w-0 rounded-md border bg-sheet px-2 ${changed ? "font-semibold text-brass-text" : ""}`}
              />
              <span className="mono text-right whitespace-nowrap">
                {signs[sign] && (
                  <span
                    className={`mr-1 font-semibold ${sign === "differs" ? "text-stuck" : sign === "unknown" ? "text-soft" : "text-open"}`}
                  >
                    {signs[sign]}
                  </span>
                )}
                {measuredText(field, stream)}
              </span>
            </div>
          );
        })}
      </div>
      {bad && (
        <p role="alert" className="mt-2 text-stuck">
          {bad}
        </p>
      )}
    </section>
  );
}
