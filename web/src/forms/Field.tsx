import { useId, type ComponentProps } from "react";

/** A labelled input with room for a hint or an error. What is typed into one that is mono stands in the mono cut; its label never does. */
export function Field({
  label,
  hint,
  error,
  mono,
  className = "",
  ...rest
}: ComponentProps<"input"> & { label: string; hint?: string; error?: string; mono?: boolean }) {
  const id = useId();
  return (
    <div className={className}>
      <label htmlFor={id} className="mb-1 block text-small text-soft">
        {label}
      </label>
      <input
        id={id}
        {...rest}
        aria-invalid={!!error}
        aria-describedby={`${id}-hint`}
        className={`h-9 w-full rounded-md border bg-sheet px-2.5 ${mono ? "mono" : ""} ${error ? "border-stuck" : ""}`}
      />
      {(error || hint) && (
        <p id={`${id}-hint`} className={`mt-1 text-small ${error ? "text-stuck" : "text-soft"}`}>
          {error ?? hint}
        </p>
      )}
    </div>
  );
}
