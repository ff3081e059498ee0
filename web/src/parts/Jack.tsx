import type { ReactNode } from "react";

/** The verdict on a plug before it is let go: whole, half, or crossed out; never its colour alone. */
export function PlugSign({ verdict }: { verdict: "fits" | "after_tuning" | "cannot" | "unknown" | "taken" }) {
  const text = { fits: "Fits", after_tuning: "Fits after tuning", cannot: "Cannot", unknown: "Not proven yet", taken: "Not free" }[verdict];
  return (
    <svg
      viewBox="0 0 24 12"
      width={24}
      height={12}
      role="img"
      aria-label={text}
      className={`shrink-0 ${verdict === "fits" ? "text-open" : verdict === "after_tuning" ? "text-brass-text" : "text-stuck"}`}
    >
      {verdict === "fits" && <path d="M1 2h11v8H1zM12 4h8v4h-8z" fill="currentColor" />}
      {verdict === "after_tuning" && (
        <>
          <path d="M1 2h11v8H1z" fill="currentColor" />
          <path d="M12.5 4.5h7v3h-7z" fill="none" stroke="currentColor" />
        </>
      )}
      {(verdict === "cannot" || verdict === "unknown" || verdict === "taken") && (
        <>
          <path d="M1.5 2.5h10v7h-10zM12 4.5h7v3h-7z" fill="none" stroke="currentColor" />
          {verdict !== "unknown" && <path d="M3 11.5 19 .5" stroke="currentColor" strokeWidth="1.6" />}
        </>
      )}
    </svg>
  );
}

/** The socket that a cord is plugged into: a ring with its hole; full when a cord is in it, barred when it takes none. */
export function Socket({ is }: { is: "free" | "used" | "blocked" | "locked" }) {
  return (
    <svg viewBox="0 0 20 20" width={20} height={20} aria-hidden className={is === "blocked" ? "text-stuck" : "text-soft"}>
      <circle cx="10" cy="10" r="8" fill="var(--sheet)" stroke="currentColor" strokeWidth="1.6" />
      {is === "locked" ? (
        <path d="M6.5 9.5h7v5h-7zM8 9.5V8a2 2 0 0 1 4 0v1.5" fill="currentColor" stroke="currentColor" strokeWidth=".8" />
      ) : (
        <circle cx="10" cy="10" r="3.4" fill="currentColor" opacity={is === "free" ? 0.35 : 1} />
      )}
      {is === "blocked" && <path d="M4.5 15.5 15.5 4.5" stroke="currentColor" strokeWidth="2" />}
    </svg>
  );
}

/** A short line of facts under a name. */
export function Facts({ children }: { children: ReactNode }) {
  return <span className="block truncate text-small text-soft">{children}</span>;
}
