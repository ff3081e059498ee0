import { Check, Copy as CopyIcon } from "lucide-react";
import { useState } from "react";
import { say } from "@/api/queries";

/** Copies a text and says that it did. */
export function Copy({ text, label }: { text: string; label: string }) {
  const [done, setDone] = useState(false);
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      className="inline-flex items-center gap-1 rounded-sm px-1 text-[13px] text-soft hover:bg-well hover:text-ink"
      onClick={() =>
        navigator.clipboard
          .writeText(text)
          .then(() => {
            setDone(true);
            setTimeout(() => setDone(false), 1500);
          })
          .catch(() => say("The browser does not allow copying here."))
      }
    >
      {done ? <Check size={14} /> : <CopyIcon size={14} />}
      {done ? "Copied" : label}
    </button>
  );
}
