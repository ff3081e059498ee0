import { Hourglass } from "lucide-react";
import { useHealth } from "@/api/queries";

/** What the demo still prepares behind its pages, along the bottom; nothing when all is ready. */
export function Preparing() {
  const doing = useHealth().data?.preparing;
  if (!doing) return null;
  return (
    <p role="status" className="flex min-h-10 items-center gap-3 border-t bg-sheet px-4 py-1">
      <Hourglass size={16} className="shrink-0 text-soft" aria-hidden /> {doing}
    </p>
  );
}
