/** Returns whether something holds every word of a text, whatever their letters' size. A text without words is held by everything. */
export function holdsWords(text: string): (...parts: (string | undefined)[]) => boolean {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  return (...parts) => {
    const all = parts.join(" ").toLowerCase();
    return words.every((w) => all.includes(w));
  };
}
