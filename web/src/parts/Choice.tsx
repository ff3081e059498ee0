import { ToggleGroup } from "radix-ui";
import type { ReactNode } from "react";

/** One of a few, side by side: arrow keys go from one to the next. `look` "picture" stands on a dark picture. */
export function Choice<T extends string>({
  label,
  value,
  onChange,
  options,
  look = "plain",
  className = "",
}: {
  label: string;
  value: T;
  onChange: (v: T) => void;
  options: readonly (readonly [T, ReactNode])[];
  look?: "plain" | "picture";
  className?: string;
}) {
  const item =
    look === "picture"
      ? "min-h-6 px-2 py-0.5 hover:bg-white/20 data-[state=on]:bg-white data-[state=on]:text-black"
      : "min-h-6 rounded-sm px-2 py-0.5 hover:bg-well data-[state=on]:bg-ink data-[state=on]:text-paper";
  return (
    // A choice is never taken away, only made otherwise: pressing what is chosen leaves it.
    <ToggleGroup.Root
      type="single"
      aria-label={label}
      value={value}
      onValueChange={(v) => v && onChange(v as T)}
      className={`flex ${className}`}
    >
      {options.map(([v, text]) => (
        <ToggleGroup.Item key={v} value={v} className={item}>
          {text}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}
