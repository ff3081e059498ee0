import { Link } from "react-router";
import { useCondition } from "@/api/condition";
import { useMay } from "@/api/queries";

/** For owners: what is wrong with the installation, over all else. */
export function Unwell() {
  const wanted = useMay()("administer");
  const ill = useCondition(wanted).data?.findings.filter((f) => f.state === "ill") ?? [];
  if (!wanted || ill.length === 0) return null;
  return (
    <p role="alert" data-unwell className="mb-4 flex flex-wrap items-baseline gap-x-3 border-l-4 border-stuck bg-sheet px-3 py-2.5">
      <span className="min-w-64 grow font-semibold text-stuck [overflow-wrap:anywhere]">{ill[0]!.says}</span>
      <Link to="/server" className="underline underline-offset-2">
        {ill.length === 1 ? "What to do" : `What to do, and ${ill.length - 1} more`}
      </Link>
    </p>
  );
}
