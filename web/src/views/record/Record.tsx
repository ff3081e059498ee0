import { useInfiniteQuery } from "@tanstack/react-query";
import { Download } from "lucide-react";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, must, type Chain, type Line } from "@/api/client";
import { useMay, useVerifiedRecord } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { PageFoot } from "@/parts/PageFoot";
import { PageHead } from "@/parts/PageHead";
import { Trouble } from "@/parts/Trouble";
import { keys } from "@/api/keys";
import { KeepingSheet } from "./KeepingSheet";
import { RecordFilter } from "./RecordFilter";
import { queryOf } from "./filter";

/** Who did what, and where: secrets shown, ranges and devices changed, work begun. What it is filtered by stands in the address. */
export function Record() {
  const [params] = useSearchParams();
  const query = queryOf(params);
  const acts = useInfiniteQuery({
    queryKey: keys.acts(query),
    queryFn: ({ pageParam }) => must(api.GET("/api/audit", { params: { query: { ...query, before: pageParam } } })),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.length === 200 ? last[last.length - 1]!.number : undefined),
  });
  const may = useMay();
  const [keeping, setKeeping] = useState(false);
  const verified = useVerifiedRecord();
  const list = acts.data?.pages.flat() ?? [];
  const filtered = Object.keys(query).length > 0;
  return (
    <div className="flex min-h-full flex-col">
      <PageHead title="Who did what" />
      <main className="mx-auto w-full max-w-5xl p-4 sm:p-8">
        <div className="mb-1 flex flex-wrap items-center gap-x-3 gap-y-2">
          <h1 className="text-xl font-semibold">Who did what</h1>
          <span className="grow" />
          {may("administer") && (
            <Button look="quiet" onClick={() => setKeeping(true)}>
              How long things are kept
            </Button>
          )}
          {may("administer") && (
            <Button disabled={verified.isFetching} onClick={() => verified.refetch()}>
              {verified.isFetching ? "Verifying …" : "Verify"}
            </Button>
          )}
          <a
            href={`/api/audit/file?${new URLSearchParams(query)}`}
            download="record.csv"
            className="inline-flex h-8 items-center gap-1.5 rounded-md border px-3 hover:bg-well"
          >
            <Download size={16} /> Save as CSV
          </a>
        </div>
        <p className="mb-4 max-w-prose text-soft">
          Each time that a password was shown, a range or a device was changed, something was removed or work was begun. Each line carries
          the hash of the one before: nobody can change one or take one out unseen.
        </p>
        {keeping && <KeepingSheet onClose={() => setKeeping(false)} />}
        {verified.data && <Verdict chain={verified.data} />}
        <RecordFilter />
        <Trouble error={verified.error ?? acts.error} />
        {acts.data && list.length === 0 && (
          <p className="border-y py-12 text-center text-soft">{filtered ? "No line is like that." : "Nothing yet."}</p>
        )}
        <Lines list={list} />
        {acts.hasNextPage && (
          <Button className="mt-4" disabled={acts.isFetchingNextPage} onClick={() => acts.fetchNextPage()}>
            Show earlier ones
          </Button>
        )}
      </main>
      <PageFoot />
    </div>
  );
}

/** What a check of the whole record found. */
function Verdict({ chain: c }: { chain: Chain }) {
  if (!c.holds)
    return (
      <p role="alert" className="mb-4 border-l-4 border-stuck bg-well px-3 py-2">
        <strong>Line {c.line} does not hold:</strong> {c.why}.
      </p>
    );
  return (
    <div role="status" className="mb-4 border-l-4 border-open bg-well px-3 py-2">
      <p>
        {c.lines === 1 ? "The one line holds" : `All ${c.lines.toLocaleString("en")} lines hold`}: none was changed, taken out or slipped
        in.
      </p>
      {c.hash && (
        <p className="flex flex-wrap items-center gap-2 text-small text-soft">
          Keep this hash of the newest line somewhere else, to be sure later too:
          <span className="mono [overflow-wrap:anywhere]">{c.hash}</span>
          <Copy label="Copy" text={c.hash} />
        </p>
      )}
    </div>
  );
}

const day = (at: string) => new Date(at).toLocaleDateString([], { weekday: "long", day: "numeric", month: "long", year: "numeric" });

function Lines({ list }: { list: Line[] }) {
  return (
    <table className={`w-full ${list.length > 0 ? "border-t" : ""}`}>
      <thead className="sr-only">
        <tr>
          <th>When</th>
          <th>Who</th>
          <th>What</th>
          <th>Where</th>
        </tr>
      </thead>
      <tbody>
        {list.map((a, i) => (
          <tr key={a.id} data-line={a.number} className="border-b align-top [&>td]:py-2 [&>td]:pr-4">
            <td className="mono w-44 whitespace-nowrap text-soft max-sm:w-auto">
              {(i === 0 || day(list[i - 1]!.at) !== day(a.at)) && <span className="block font-sans text-ink">{day(a.at)}</span>}
              {new Date(a.at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", second: "2-digit", hour12: false })}
            </td>
            <td>
              <span className="font-medium">{a.person || "Unlatch"}</span>
              {a.token && <span className="block text-small text-soft">by token {a.token}</span>}
            </td>
            <td>
              {a.action}
              {a.subject && <span className="text-soft"> {a.subject}</span>}
              {(a.before || a.after) && <Change before={a.before} after={a.after} />}
            </td>
            <td className="text-soft">{[a.device, a.target, a.site].filter(Boolean).join(", ")}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** What an act has changed: what was, and what is. */
function Change({ before, after }: { before?: string; after?: string }) {
  return (
    <p className="max-w-prose text-small text-soft [overflow-wrap:anywhere]">
      {before && <span className={after ? "line-through decoration-1" : ""}>{before}</span>}
      {before && after && " → "}
      {after}
    </p>
  );
}
