import type { Cause } from "@/api/client";

type Props = { change: Cause["drifts"][number]["changes"][number]; back?: boolean };

/** A field that changed, from what was agreed on to what it is now; back turns that round, as a repair does. */
export function Change({ change: c, back }: Props) {
  const [from, to] = back ? [c.is, c.was] : [c.was, c.is];
  return (
    <span className="block break-words">
      <span className="text-soft">
        {c.words}: {from ?? "not known"} →
      </span>{" "}
      <span className="font-semibold">{to ?? (back ? "not known" : "not known any more")}</span>
    </span>
  );
}
