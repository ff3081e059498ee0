/** A camera's picture, or where there is none yet, an empty frame that says so to screen readers. */
export function Still({ src, name, className = "" }: { src?: string; name: string; className?: string }) {
  if (!src)
    return (
      <span className={`grid shrink-0 place-items-center rounded-sm bg-well ${className}`} role="img" aria-label={`${name}: no picture yet`}>
        <svg viewBox="0 0 16 9" className="h-2/5 text-hair" aria-hidden><path d="M1 1h14v7H1z" fill="none" stroke="currentColor" /><path d="M1 1l14 7" stroke="currentColor" /></svg>
      </span>
    );
  return <img src={src} alt={`Picture of ${name}`} className={`shrink-0 rounded-sm bg-well object-cover ${className}`} loading="lazy" draggable={false} />;
}
