import { FileUp } from "lucide-react";
import { useRef, type ReactNode } from "react";
import { Button } from "./Button";

type Props = { name: string; accept: string; title?: string; disabled?: boolean; onFile: (file: File) => void; children: ReactNode };

/** A button that asks for a file; the same file can be chosen again. */
export function FileButton({ name, accept, title, disabled, onFile, children }: Props) {
  const picker = useRef<HTMLInputElement>(null);
  return (
    <>
      <input
        ref={picker}
        type="file"
        aria-label={name}
        accept={accept}
        className="sr-only"
        onChange={(e) => {
          const file = e.target.files?.[0];
          if (file) onFile(file);
          e.target.value = "";
        }}
      />
      <Button disabled={disabled} title={title} onClick={() => picker.current?.click()}>
        <FileUp size={15} /> {children}
      </Button>
    </>
  );
}
