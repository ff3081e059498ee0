import { useInfiniteQuery } from "@tanstack/react-query";
import { api, must } from "@/api/client";
import { Button } from "@/parts/Button";
import { PageHead } from "@/parts/PageHead";
import { Trouble } from "@/parts/Trouble";
import { keys } from "@/api/keys";

/** Who did what, and where: secrets shown, ranges and devices changed, work begun. */
export function Record() {
  const acts = useInfiniteQuery({
    queryKey: keys.acts(),
    queryFn: ({ pageParam }) => must(api.GET("/api/audit", { params: { query: { before: pageParam } } })),
    initialPageParam: "",
    getNextPageParam: (last) => (last.length === 200 ? last[last.length - 1]!.id : undefined),
  });
  const list = acts.data?.pages.flat() ?? [];
  const day = (at: string) => new Date(at).toLocaleDateString([], { weekday: "long", day: "numeric", month: "long", year: "numeric" });
  return (
    <div className="flex min-h-full flex-col">
      <PageHead title="Who did what" />
      <main className="mx-auto w-full max-w-5xl p-4 sm:p-8">
        <h1 className="mb-1 text-xl font-semibold">Who did what</h1>
        <p className="mb-4 text-soft">
          Each time that a password was shown, a range or a device was changed, something was removed or work was begun. Nobody can take a
          line out.
        </p>
        <Trouble error={acts.error} />
        {acts.data && list.length === 0 && <p className="border-y py-12 text-center text-soft">Nothing yet.</p>}
        <table className="w-full border-t">
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
              <tr key={a.id} className="border-b align-top [&>td]:py-2 [&>td]:pr-4">
                <td className="mono w-44 whitespace-nowrap text-soft max-sm:w-auto">
                  {(i === 0 || day(list[i - 1]!.at) !== day(a.at)) && <span className="block font-sans text-ink">{day(a.at)}</span>}
                  {new Date(a.at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", second: "2-digit", hour12: false })}
                </td>
                <td className="font-medium">{a.person || "Unlatch"}</td>
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
        {acts.hasNextPage && (
          <Button className="mt-4" disabled={acts.isFetchingNextPage} onClick={() => acts.fetchNextPage()}>
            Show earlier ones
          </Button>
        )}
      </main>
    </div>
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
