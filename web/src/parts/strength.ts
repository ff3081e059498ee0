/** How hard a password is to guess, from 0 (none) to 4, in words. Repeats and runs count for little. */
export function strength(p: string): { level: number; says: string } {
  if (p === "") return { level: 0, says: "Type one, or let Unlatch make one." };
  let fresh = 0;
  for (let i = 0; i < p.length; i++) {
    const step = i > 0 ? p.charCodeAt(i) - p.charCodeAt(i - 1) : 9;
    fresh += Math.abs(step) <= 1 ? 0.3 : 1; // aaaa, 1234, dcba
  }
  const kinds = [/[a-z]/, /[A-Z]/, /[0-9]/, /[^a-zA-Z0-9]/].filter((k) => k.test(p)).length;
  const bits = fresh * [0, 3.5, 4.3, 5, 5.5][kinds]!;
  if (p.length < 10) return { level: 1, says: `Too short: ${p.length} of at least 10 characters.` };
  if (bits < 40) return { level: 1, says: "Weak: easy to guess." };
  if (bits < 55) return { level: 2, says: "Fair: better with more characters." };
  if (bits < 75) return { level: 3, says: "Good." };
  return { level: 4, says: "Very good." };
}
