import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { Foot } from "@/parts/Foot";
import { saveText } from "@/parts/save";
import { Sheet } from "@/parts/Sheet";

/** Recovery codes, right after they were made: they are not shown again. */
export function CodesSheet({ codes, onClose }: { codes: string[]; onClose: () => void }) {
  const text = codes.join("\n");
  return (
    <Sheet title="Recovery codes" open onOpenChange={(o) => !o && onClose()}>
      <p className="mb-3">
        Keep these where your phone is not: each opens your account once, after the password, when the second factor is lost. They are not
        shown again.
      </p>
      <ul className="mono grid grid-cols-1 gap-x-6 gap-y-1 border-y py-3 sm:grid-cols-2" data-codes>
        {codes.map((c) => (
          <li key={c}>{c}</li>
        ))}
      </ul>
      <Foot>
        <Copy text={text} label="Copy" />
        <Button onClick={() => saveText("Unlatch recovery codes.txt", `${text}\n`)}>Save as a file</Button>
        <Button look="next" onClick={onClose}>
          I have kept them
        </Button>
      </Foot>
    </Sheet>
  );
}
