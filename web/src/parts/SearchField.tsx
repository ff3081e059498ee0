import { Search } from "lucide-react";
import type { RefObject } from "react";

/** A field to search what a view shows. Escape empties it and gives the keys back to the view. */
export function SearchField({
  field,
  text,
  setText,
  label,
  placeholder = label,
  className = "",
}: {
  field: RefObject<HTMLInputElement | null>;
  text: string;
  setText: (text: string) => void;
  label: string;
  placeholder?: string;
  className?: string;
}) {
  return (
    <label className={`relative ${className}`}>
      <Search size={14} className="absolute top-1/2 left-2.5 -translate-y-1/2 text-soft" aria-hidden />
      <input
        ref={field}
        value={text}
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => {
          if (e.key !== "Escape") return;
          setText("");
          e.currentTarget.blur();
        }}
        placeholder={placeholder}
        aria-label={label}
        className="h-8 w-full rounded-md border bg-sheet pr-2 pl-8"
      />
    </label>
  );
}
