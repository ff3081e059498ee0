import { useState } from "react";
import { useSearchParams } from "react-router";
import type { Baseline } from "@/api/client";
import { useBaselines, useDifferences } from "@/api/baselines";
import { useMay } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Trouble } from "@/parts/Trouble";
import { useFrame } from "@/parts/useFrame";
import { AgreedSheet } from "./AgreedSheet";
import { Changes } from "./Changes";

/** The states of the site that people agreed on, and what has changed since. What is compared stands in the address. */
export function Agreed() {
  const { site, devices } = useFrame();
  const may = useMay();
  const [params, setParams] = useSearchParams();
  const [taking, setTaking] = useState(false);
  const kept = useBaselines(site.id);
  const list = kept.data ?? [];
  const since = list.find((b) => b.id === params.get("since")) ?? list[0];
  const other = list.find((b) => b.id === params.get("with") && b.id !== since?.id);
  const differences = useDifferences(site.id, since?.id, other?.id);
  const choose = (name: "since" | "with", id: string) =>
    setParams(
      (p) => {
        if (id) p.set(name, id);
        else p.delete(name);
        return p;
      },
      { replace: true },
    );
  if (kept.error) return <Trouble error={kept.error} />;
  if (!kept.data) return null;
  const take = may("work") && (
    <Button look={list.length === 0 ? "next" : "plain"} disabled={devices.length === 0} onClick={() => setTaking(true)}>
      Agree on the state of now
    </Button>
  );
  return (
    <div className="h-full overflow-auto">
      <div className="mx-auto max-w-5xl p-4 sm:p-8">
        <div className="mb-5 flex flex-wrap items-start gap-x-6 gap-y-3">
          <div className="mr-auto max-w-2xl grow basis-80">
            <h1 className="mb-1 text-xl font-semibold">Agreed</h1>
            <p className="text-soft">
              When a site is finished, agree on its state: addresses, firmware, sign-ins, streams as set and as measured, and what stands in
              which slot. From then on this page tells what is no longer so.
            </p>
          </div>
          {list.length > 0 && take}
        </div>
        {!since ? (
          <div className="border-y py-12 text-center">
            <p className="mb-4 text-lg">Nothing is agreed on yet.</p>
            {take}
          </div>
        ) : (
          <div className="grid gap-8 md:grid-cols-[16rem_1fr]">
            <States list={list} chosen={since.id} onChoose={(id) => choose("since", id)} />
            <section aria-label="What has changed" className="min-w-0">
              <Trouble error={differences.error} />
              {differences.data && (
                <Changes view={differences.data} since={since} other={other}>
                  <select
                    aria-label="Compare it with"
                    value={other?.id ?? ""}
                    onChange={(e) => choose("with", e.target.value)}
                    className="h-8 max-w-full rounded-md border bg-sheet px-2"
                  >
                    <option value="">now</option>
                    {list
                      .filter((b) => b.id !== since.id)
                      .map((b) => (
                        <option key={b.id} value={b.id}>
                          {b.name}, {day(b.at)}
                        </option>
                      ))}
                  </select>
                </Changes>
              )}
            </section>
          </div>
        )}
      </div>
      {taking && <AgreedSheet site={site.id} devices={devices} onClose={() => setTaking(false)} onTaken={() => setParams({})} />}
    </div>
  );
}

/** A day and time as people write it. */
const day = (at: string) => new Date(at).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" });

const here = "border-brass bg-well";

/** The states that were agreed on, as marks on a line, the newest on top. */
function States({ list, chosen, onChoose }: { list: Baseline[]; chosen: string; onChoose: (id: string) => void }) {
  return (
    <ol aria-label="Agreed states" className="self-start border-l-2 max-md:max-h-64 max-md:overflow-auto">
      {list.map((b) => (
        <li key={b.id}>
          <button
            type="button"
            aria-pressed={b.id === chosen}
            onClick={() => onChoose(b.id)}
            className={`-ml-0.5 w-full border-l-4 px-3 py-2 text-left hover:bg-well ${b.id === chosen ? here : "border-transparent"}`}
          >
            <span className="block font-semibold break-words">{b.name}</span>
            <span className="block text-small text-soft">
              {day(b.at)}, {b.by}
            </span>
            <span className="block text-small text-soft">
              {b.devices === 1 ? "1 device" : `${b.devices} devices`}
              {b.unfinished > 0 && `, ${b.unfinished} not finished`}
            </span>
            {b.reason && <span className="block text-small break-words">“{b.reason}”</span>}
          </button>
        </li>
      ))}
    </ol>
  );
}
