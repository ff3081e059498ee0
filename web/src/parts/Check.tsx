import { Checkbox } from "radix-ui";

/** A box to tick. A click on it does not reach what lies under it. */
export function Check({ checked, onChange, label }: { checked: boolean | "indeterminate"; onChange: () => void; label: string }) {
  return (
    <Checkbox.Root
      checked={checked}
      onCheckedChange={onChange}
      aria-label={label}
      onClick={(e) => e.stopPropagation()}
      className="grid size-4 shrink-0 place-items-center rounded-sm border border-soft bg-sheet data-[state=checked]:border-ink
        data-[state=checked]:bg-ink data-[state=indeterminate]:border-ink"
    >
      <Checkbox.Indicator>
        <svg width="10" height="10" viewBox="0 0 10 10" aria-hidden>
          <path
            d={checked === "indeterminate" ? "M2 5h6" : "M1.5 5.2 4 7.7 8.5 2.5"}
            fill="none"
            className={checked === "indeterminate" ? "stroke-ink" : "stroke-paper"}
            strokeWidth="1.8"
          />
        </svg>
      </Checkbox.Indicator>
    </Checkbox.Root>
  );
}
