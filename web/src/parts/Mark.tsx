/** The product's mark: a bolt drawn out of its keep. */
export function Mark({ size = 22 }: { size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 24 24" aria-hidden>
      <path d="M4 16.5h9.5v-5H4z" className="fill-open" />
      <path d="M16 8.5h4.5v11H16z" className="fill-ink" />
      <path d="M7 11.5V8a3.3 3.3 0 0 1 6.3-1.4" fill="none" className="stroke-ink" strokeWidth="2" strokeLinecap="round" />
    </svg>
  );
}
