import { Check } from "@/parts/Check";

/** A box to tick with what it stands for beside it. */
export function Tick({ label, checked, onChange }: { label: string; checked: boolean; onChange: (on: boolean) => void }) {
  return (
    <div className="flex items-start gap-2">
      <span className="mt-0.5">
        <Check label={label} checked={checked} onChange={() => onChange(!checked)} />
      </span>
      <button type="button" tabIndex={-1} aria-hidden className="text-left" onClick={() => onChange(!checked)}>
        {label}
      </button>
    </div>
  );
}
