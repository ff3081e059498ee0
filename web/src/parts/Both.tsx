import type { Problem } from "@/api/client";
import { Button } from "./Button";
import { ago } from "./measures";

const said = (fields: Record<string, string>) => Object.entries(fields).map(([field, text]) => `${field} ${text}`);

/** What somebody else has changed meanwhile beside one's own, to choose from. */
export function Both({
  changed,
  mine,
  onTheirs,
  onMine,
}: {
  changed: NonNullable<Problem["changed"]>;
  mine: Record<string, string>;
  onTheirs: () => void;
  onMine: () => void;
}) {
  const side = (head: string, fields: Record<string, string>, button: string, act: () => void) => (
    <div className="min-w-0 grow basis-64">
      <p className="text-small text-soft">{head}</p>
      {said(fields).length === 0 && <p>nothing</p>}
      {said(fields).map((line) => (
        <p key={line} className="mono max-h-40 overflow-auto text-small whitespace-pre-wrap [overflow-wrap:anywhere]">
          {line}
        </p>
      ))}
      <Button className="mt-2" onClick={act}>
        {button}
      </Button>
    </div>
  );
  return (
    <div role="alert" className="w-full border-l-4 border-brass bg-well px-3 py-2">
      <p className="mb-2">
        {changed.by || "Somebody"} has changed this {ago(changed.at)}, while you were at it.
      </p>
      <div className="flex flex-wrap gap-4">
        {side(`${changed.by || "Theirs"}:`, changed.now, "Go on with theirs", onTheirs)}
        {side("You:", mine, "Keep mine instead", onMine)}
      </div>
    </div>
  );
}
