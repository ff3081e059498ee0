import { RadioGroup } from "radix-ui";

/** The dot of a radio group; its label stands around it. */
export function Dot({ value, disabled }: { value: string; disabled?: boolean }) {
  return (
    <RadioGroup.Item
      value={value}
      disabled={disabled}
      className="grid size-4 shrink-0 place-items-center self-center rounded-full border border-soft bg-sheet
        data-[state=checked]:border-ink"
    >
      <RadioGroup.Indicator className="size-2 rounded-full bg-ink" />
    </RadioGroup.Item>
  );
}
