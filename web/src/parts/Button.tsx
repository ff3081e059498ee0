import type { ButtonHTMLAttributes } from "react";

type Look = "next" | "plain" | "quiet" | "danger";

const looks: Record<Look, string> = {
  next: "bg-brass text-on-brass font-semibold hover:brightness-105 active:brightness-95 disabled:bg-well disabled:text-soft",
  plain: "border bg-sheet hover:bg-well disabled:text-soft",
  quiet: "hover:bg-well text-soft hover:text-ink",
  danger: "border border-stuck text-stuck hover:bg-stuck hover:text-paper",
};

/** A button. Brass ("next") is for the one thing to do next; a screen has one. */
export function Button({ look = "plain", className = "", ...rest }: ButtonHTMLAttributes<HTMLButtonElement> & { look?: Look }) {
  return (
    <button
      type="button"
      {...rest}
      className={`inline-flex h-8 shrink-0 items-center justify-center gap-1.5 rounded-md px-3 whitespace-nowrap ${looks[look]}
        ${className}`}
    />
  );
}
