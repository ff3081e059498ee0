import { useEffect, useState } from "react";

/** A value that follows another after it has been still for a while. */
export function useDelayed<T>(value: T, ms: number) {
  const [late, setLate] = useState(value);
  useEffect(() => {
    const t = setTimeout(() => setLate(value), ms);
    return () => clearTimeout(t);
  }, [value, ms]);
  return late;
}
