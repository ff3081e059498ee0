/** A camera's picture, or where there is none yet, an empty frame that says so to screen readers. */
export function Still({ src, name, recorder, className = "" }: { src?: string; name: string; recorder?: boolean; className?: string }) {
  if (recorder)
    return (
      <span className={`grid shrink-0 place-items-center rounded-sm bg-well ${className}`} role="img" aria-label={`${name}, a recorder`}>
        <svg viewBox="0 0 24 14" className="h-3/5 text-soft" fill="none" stroke="currentColor" strokeWidth="1.3" aria-hidden>
          <path d="M2 2h20v10H2zM2 7h20" />
          <path d="M5 4.5h4M5 9.5h4M18 4.5h1M18 9.5h1" />
        </svg>
      </span>
    );
  if (!src)
    return (
      <span
        className={`grid shrink-0 place-items-center rounded-sm bg-well ${className}`}
        role="img"
        aria-label={`${name}: no picture yet`}
      >
        <svg viewBox="0 0 16 9" className="h-2/5 text-hair" aria-hidden>
          <path d="M1 1h14v7H1z" fill="none" stroke="currentColor" />
          <path d="M1 1l14 7" stroke="currentColor" />
        </svg>
      </span>
    );
  return <img src={src} alt={name} className={`shrink-0 rounded-sm bg-well object-cover ${className}`} loading="lazy" draggable={false} />;
}
