import { useEffect, useState } from "react";

/** Whether a media query fits now. */
export function useMedia(query: string) {
  const [fits, setFits] = useState(() => matchMedia(query).matches);
  useEffect(() => {
    const m = matchMedia(query);
    const on = () => setFits(m.matches);
    m.addEventListener("change", on);
    return () => m.removeEventListener("change", on);
  }, [query]);
  return fits;
}
