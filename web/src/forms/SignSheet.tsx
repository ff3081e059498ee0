import { useRef, useState } from "react";
import { useSignHandover } from "@/api/handover";
import { Field } from "./Field";
import { Button } from "@/parts/Button";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";

type Props = { site: string; version: { id: string; number: number; hash?: string }; onClose: () => void };

/** Signs a version of the pack: a name, and a signature drawn with a finger, a pen or the mouse. */
export function SignSheet({ site, version, onClose }: Props) {
  const [name, setName] = useState("");
  const [strokes, setStrokes] = useState<number[][]>([]);
  const sign = useSignHandover(site, version.id);
  return (
    <Sheet title={`Sign version ${version.number}`} open onOpenChange={(o) => !o && onClose()}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          sign.mutate({ name, strokes }, { onSuccess: onClose });
        }}
      >
        <p>I have received the site as the papers of this version describe it.</p>
        <Field label="Your name" name="signer" autoComplete="name" value={name} onChange={(e) => setName(e.target.value)} />
        <SignField strokes={strokes} onChange={setStrokes} />
        {version.hash && (
          <p className="text-small text-soft">
            What is signed: <span className="mono break-all">{version.hash}</span>
          </p>
        )}
        <Foot error={sign.error}>
          <Button look="quiet" className="mr-auto" disabled={strokes.length === 0} onClick={() => setStrokes([])}>
            Draw anew
          </Button>
          <Button onClick={onClose}>Cancel</Button>
          <Button look="next" type="submit" disabled={sign.isPending || !name.trim() || strokes.length === 0}>
            Sign
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}

/** The most points of one stroke, so that a long signature stays small. */
const mostPoints = 400;

/** The field that is drawn into. Points are kept as shares of its width and height. */
function SignField({ strokes, onChange }: { strokes: number[][]; onChange: (s: number[][]) => void }) {
  const field = useRef<SVGSVGElement>(null);
  const drawing = useRef(false);
  const at = (e: React.PointerEvent) => {
    const r = field.current!.getBoundingClientRect();
    const share = (v: number, size: number) => Math.min(1, Math.max(0, Math.round((v / size) * 1e4) / 1e4));
    return [share(e.clientX - r.left, r.width), share(e.clientY - r.top, r.height)];
  };
  return (
    <div>
      <span className="mb-1 block text-small text-soft">Signature</span>
      <svg
        ref={field}
        role="img"
        aria-label="Field for the signature"
        data-sign
        viewBox="0 0 300 100"
        preserveAspectRatio="none"
        className="h-36 w-full touch-none rounded-md border bg-sheet"
        onPointerDown={(e) => {
          e.currentTarget.setPointerCapture(e.pointerId);
          drawing.current = true;
          onChange([...strokes, at(e)]);
        }}
        onPointerMove={(e) => {
          const last = strokes.at(-1);
          if (!drawing.current || !last || last.length >= 2 * mostPoints) return;
          onChange([...strokes.slice(0, -1), [...last, ...at(e)]]);
        }}
        onPointerUp={() => {
          drawing.current = false;
        }}
      >
        <line x1="12" x2="288" y1="78" y2="78" className="stroke-hair" />
        {strokes.map((s, i) => (
          <polyline
            // biome-ignore lint/suspicious/noArrayIndexKey: a stroke is known by its place
            key={i}
            points={s.map((v, n) => (n % 2 ? v * 100 : v * 300)).join(" ")}
            fill="none"
            className="stroke-ink"
            strokeWidth="1.6"
            strokeLinecap="round"
            strokeLinejoin="round"
          />
        ))}
      </svg>
    </div>
  );
}
