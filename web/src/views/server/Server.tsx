import { RefreshCw } from "lucide-react";
import type { Condition, ServerFinding, ServerProcess } from "@/api/client";
import { useCondition, useMakeBackup } from "@/api/condition";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { ago } from "@/parts/measures";
import { PageFoot } from "@/parts/PageFoot";
import { PageHead } from "@/parts/PageHead";
import { Trouble } from "@/parts/Trouble";
import { Paired } from "./Paired";
import { bytes, share, verdict } from "./words";

/** Whether the installation is well: what is not, with what to do, then what it consists of. */
export function Server() {
  const condition = useCondition();
  const c = condition.data;
  return (
    <div className="flex min-h-full flex-col">
      <PageHead title="Server" />
      <main className="mx-auto w-full max-w-5xl grow p-4 sm:p-8">
        <div className="mb-4 flex items-center justify-between gap-3">
          <h1 className="text-xl font-semibold" data-verdict>
            {c ? verdict(c.findings) : "Looking …"}
          </h1>
          <Button disabled={condition.isFetching} onClick={() => condition.refetch()}>
            <RefreshCw size={16} /> Look again
          </Button>
        </div>
        <Trouble error={condition.error} />
        {c && <Whole condition={c} />}
      </main>
      <PageFoot />
    </div>
  );
}

function Whole({ condition: c }: { condition: Condition }) {
  return (
    <>
      <ul className="space-y-3">
        {c.findings
          .filter((f) => f.state !== "well")
          .map((f) => (
            <Open key={`${f.cause} ${f.on} ${f.says}`} finding={f} />
          ))}
      </ul>
      <section className="mt-8">
        <h2 className="mb-2 font-semibold">What is well</h2>
        <ul className="grid gap-x-8 border-t sm:grid-cols-2">
          {c.findings
            .filter((f) => f.state === "well")
            .map((f) => (
              <li key={`${f.cause} ${f.on} ${f.says}`} className="flex gap-3 border-b py-1.5">
                <span aria-hidden className="mt-1.5 size-2 shrink-0 rounded-full bg-open" />
                <span className="min-w-0 grow [overflow-wrap:anywhere]">{f.says}</span>
                {f.on && <span className="shrink-0 text-small text-soft">{f.on}</span>}
              </li>
            ))}
        </ul>
      </section>
      <section className="mt-8">
        <h2 className="mb-2 font-semibold">Servers and workers</h2>
        <ul className="border-t">
          {c.processes.map((p) => (
            <Process key={p.name} process={p} />
          ))}
        </ul>
      </section>
      <Paired />
      {c.database && <Tables condition={c} />}
    </>
  );
}

/** A finding that somebody should act on. What to type stands ready to be copied. */
function Open({ finding: f }: { finding: ServerFinding }) {
  const ill = f.state === "ill";
  return (
    <li data-finding={f.cause} data-state={f.state} className={`border-l-4 bg-sheet px-3 py-2.5 ${ill ? "border-stuck" : "border-brass"}`}>
      <p className={`font-semibold [overflow-wrap:anywhere] ${ill ? "text-stuck" : ""}`}>
        {f.says}
        {f.on && <span className="ml-2 font-normal text-soft">on {f.on}</span>}
      </p>
      {f.do && (
        <p className="mt-1 flex flex-wrap items-center gap-2 text-soft">
          <span className="min-w-0 [overflow-wrap:anywhere]">{f.do}</span>
          {/^(apt-get|sysctl|unlatch) /.test(f.do) && <Copy label="Copy" text={f.do.split(", and ")[0]!} />}
        </p>
      )}
      {f.cause.startsWith("backup_") && <BackUp />}
    </li>
  );
}

/** Makes a backup now, where the last one failed or was missed. */
function BackUp() {
  const make = useMakeBackup();
  return (
    <div className="mt-2">
      <Button look="next" disabled={make.isPending || make.isSuccess} onClick={() => make.mutate(undefined)}>
        {make.isSuccess ? "Asked for; look again in a moment" : "Make a backup now"}
      </Button>
      <Trouble error={make.error} />
    </div>
  );
}

function Process({ process: p }: { process: ServerProcess }) {
  const m = p.machine;
  return (
    <li className="grid gap-x-4 gap-y-0.5 border-b py-2 sm:grid-cols-[180px_1fr_1fr_120px]">
      <span className="min-w-0">
        <span className="block truncate font-medium">{m.name}</span>
        <span className="block text-small text-soft">{p.kind === "server" ? "Server" : "Worker"}</span>
      </span>
      <span className="min-w-0 text-small">
        <span className="block">{p.kind === "server" ? "Serves these pages" : reaches(p.sites ?? [])}</span>
        <span className="block text-soft [overflow-wrap:anywhere]">
          Unlatch {m.program.version}
          {m.program.revision && ` (${m.program.revision.slice(0, 12)})`}
        </span>
      </span>
      <span className="mono text-small">
        <span className="block">{m.disk.size > 0 && `${bytes(m.disk.free)} of ${bytes(m.disk.size)} disk free`}</span>
        <span className="block text-soft">
          {m.memory_size ? `${bytes(m.memory_free ?? 0)} of ${bytes(m.memory_size)} memory free, ` : ""}
          {m.processors} {m.processors === 1 ? "core" : "cores"}
        </span>
      </span>
      <span className="text-small text-soft">
        <span className="block">started {ago(p.since)}</span>
        <span className="block">heard {ago(p.seen)}</span>
      </span>
    </li>
  );
}

function reaches(sites: string[]) {
  if (sites.length === 0) return "Reaches no site";
  if (sites.length > 3) return `Reaches ${sites.length} sites`;
  return `Reaches ${sites.join(", ")}`;
}

/** The largest tables, each against the whole database. */
function Tables({ condition: c }: { condition: Condition }) {
  const d = c.database!;
  return (
    <section className="mt-8">
      <h2 className="mb-1 font-semibold">Database</h2>
      <p className="mb-2 text-soft">
        PostgreSQL {d.version}, {bytes(d.bytes)}, tables at {d.schema}; {d.connections} of {d.most_connections} connections in use.
      </p>
      <ul className="border-t">
        {d.tables.map((t) => (
          <li key={t.name} className="grid grid-cols-[1fr_auto] items-center gap-x-4 border-b py-1 sm:grid-cols-[220px_1fr_90px_130px]">
            <span className="mono truncate">{t.name}</span>
            <span aria-hidden className="h-1.5 overflow-hidden rounded-sm bg-well max-sm:hidden">
              <span className="block h-full bg-soft" style={{ width: `${share(t.bytes, d.bytes)}%` }} />
            </span>
            <span className="mono text-right">{bytes(t.bytes)}</span>
            <span className="mono text-right text-soft max-sm:hidden">{t.rows.toLocaleString("en")} rows</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
