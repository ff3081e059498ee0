import { startTransition, useEffect, useState } from "react";

/**
 * Follows a list whose unchanged members stay the same objects, taking over at most `step` new or changed ones at a time, so that hundreds
 * arriving at once are drawn in pieces between which keys and clicks come first.
 */
export function useInSteps<T extends { id: string }>(list: T[], step: number): T[] {
  const [shown, setShown] = useState(list);
  useEffect(() => {
    if (shown !== list) startTransition(() => setShown(nextStep(shown, list, step)));
  }, [shown, list, step]);
  return shown;
}

/** What is shown after one more step from `shown` towards `list`; `list` itself once nothing is left. */
export function nextStep<T extends { id: string }>(shown: T[], list: T[], step: number): T[] {
  const before = new Map(shown.map((x) => [x.id, x]));
  const out: T[] = [];
  let left = false;
  for (const x of list) {
    const old = before.get(x.id);
    if (old === x) out.push(x);
    else if (step-- > 0) out.push(x);
    else {
      left = true;
      if (old) out.push(old);
    }
  }
  return left ? out : list;
}
