import { Check, Copy as CopyIcon } from "lucide-react";
import { useState } from "react";
import { say } from "@/api/actions";

/** Copies a text, or one that is asked for when it is wanted, and says that it did. */
export function Copy({ text, label }: { text: string | (() => Promise<string>); label: string }) {
  const [done, setDone] = useState(false);
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      className="inline-flex min-h-6 items-center gap-1 rounded-sm px-1 text-small text-soft hover:bg-well hover:text-ink"
      onClick={() =>
        // A text that has to be asked for goes to the clipboard as a promise: the click is what allows it.
        (typeof text === "string"
          ? navigator.clipboard.writeText(text)
          : navigator.clipboard.write([new ClipboardItem({ "text/plain": text().then((t) => new Blob([t], { type: "text/plain" })) })])
        )
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
