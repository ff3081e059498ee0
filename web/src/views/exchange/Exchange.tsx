import { useQuery } from "@tanstack/react-query";
import { ArrowLeft, Download, FileText } from "lucide-react";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link, useParams } from "react-router";
import { api, must, type Turn } from "@/api/client";
import { keys } from "@/api/keys";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { useKeys } from "@/parts/keys";
import { saveText } from "@/parts/save";
import { SearchField } from "@/parts/SearchField";
import { Sheet } from "@/parts/Sheet";
import { Trouble } from "@/parts/Trouble";
import { useFrame } from "@/parts/useFrame";

const reading = (of: string, record: string) =>
  of === "target"
    ? must(api.GET("/api/target-records/{record}/reading", { params: { path: { record } } }))
    : must(api.GET("/api/evidence/{record}/reading", { params: { path: { record } } }));

/** What was said, turn by turn on a time line, with the turn that mattered marked, and one page of it for a maker's support. */
export function Exchange() {
  const { site } = useFrame();
  const { of = "device", record = "" } = useParams();
  const { data: x, error } = useQuery({ queryKey: keys.reading(of, record), queryFn: () => reading(of, record), retry: false });
  const [text, setText] = useState("");
  const [at, setAt] = useState<number | null>(null);
  const [noting, setNoting] = useState(false);
  const search = useRef<HTMLInputElement>(null);
  const list = useRef<HTMLOListElement>(null);

  const turns = x?.turns ?? [];
  const found = useMemo(() => {
    const word = text.trim().toLowerCase();
    return turns
      .map((t, i) => ({ t, i }))
      .filter(({ t }) => !word || [t.note, t.asked, t.answer, t.sent, t.got, t.mark].some((s) => s?.toLowerCase().includes(word)));
  }, [turns, text]);
  const wanted = at ?? (x && x.mattered >= 0 ? x.mattered : turns.findIndex((t) => !t.note));
  // What is searched for is shown: the first turn that holds it, where the one in hand does not.
  const here = found.some(({ i }) => i === wanted) ? wanted : (found[0]?.i ?? 0);
  const move = (by: number) => {
    const place = found.findIndex(({ i }) => i === here);
    const to = found[Math.max(0, Math.min(found.length - 1, place + by))];
    if (to) setAt(to.i);
  };
  useKeys({ ArrowDown: () => move(1), ArrowUp: () => move(-1), "/": () => search.current?.focus() });
  useEffect(() => {
    list.current?.querySelector(`[data-turn="${here}"]`)?.scrollIntoView({ block: "nearest" });
  }, [here]);

  if (error)
    return (
      <div className="mx-auto mt-16 max-w-lg p-4">
        <Trouble error={error} />
      </div>
    );
  if (!x) return <p className="p-6 text-soft">Loading …</p>;
  const back = of === "target" ? `/sites/${site.id}/targets/${x.of}` : `/sites/${site.id}?device=${x.of}`;
  const turn = turns[here];
  const longest = Math.max(...turns.map((t) => t.took_ms ?? 0), 1);
  const all = turns
    .map((t) => [t.note && `- ${t.note}`, t.sent && `> ${t.sent}`, t.got && `< ${t.got}`].filter(Boolean).join("\n"))
    .join("\n\n");
  const file = `${x.name} ${x.at.slice(0, 19).replaceAll(":", "")}`;
  return (
    <div className="flex h-full flex-col" data-reading={turns.length}>
      <div className="flex min-h-12 shrink-0 flex-wrap items-center gap-x-3 gap-y-2 border-b px-4 py-2">
        <Link to={back} className="-ml-1 inline-flex items-center gap-1 rounded-sm p-1 text-soft hover:bg-well hover:text-ink">
          <ArrowLeft size={16} /> {x.name}
        </Link>
        <h2 className={`min-w-0 grow basis-64 text-lead font-semibold ${x.finding ? "text-stuck" : ""}`}>{x.summary}</h2>
        <SearchField field={search} text={text} setText={setText} label="Search what was said" className="w-52" />
        <Copy text={all} label="Copy all" />
        <a
          href={`/api/${of === "target" ? "target-records" : "evidence"}/${record}/exchange`}
          download={`${file}.txt`}
          className="inline-flex h-8 items-center gap-1.5 rounded-md px-2 text-soft hover:bg-well hover:text-ink"
        >
          <Download size={15} /> Save
        </a>
        <Button look={x.finding ? "next" : "plain"} onClick={() => setNoting(true)}>
          <FileText size={15} /> Support note
        </Button>
      </div>
      {x.finding && (
        <p className="shrink-0 border-b bg-sheet px-4 py-2">
          {x.finding.fix} {x.finding.seen && x.finding.seen !== x.summary && <span className="text-soft">Seen: {x.finding.seen}</span>}
        </p>
      )}
      <div className="grid min-h-0 grow md:grid-cols-[minmax(280px,400px)_minmax(0,1fr)] max-md:grid-rows-[minmax(0,2fr)_minmax(0,3fr)]">
        <ol ref={list} aria-label="Turns" className="overflow-auto border-r py-2 max-md:border-b">
          {found.length === 0 && <li className="px-4 py-3 text-soft">Nothing that was said holds “{text}”.</li>}
          {found.map(({ t, i }) => (
            <TurnLine
              key={i}
              turn={t}
              place={i}
              here={i === here}
              mattered={i === x.mattered}
              longest={longest}
              onChoose={() => setAt(i)}
            />
          ))}
        </ol>
        <div className="min-w-0 overflow-auto p-4">{turn && <TurnText turn={turn} file={file} word={text.trim()} />}</div>
      </div>
      <Sheet title="Support note" open={noting} onOpenChange={setNoting} wide>
        <div className="mb-2 flex items-center gap-3">
          <Button look="next" onClick={() => saveText(`${file} support note.txt`, x.note)}>
            <Download size={15} /> Save it as a file
          </Button>
          <Copy text={x.note} label="Copy it" />
          <span className="text-small text-soft">Facts, finding and exchange on one page. No passwords are in it.</span>
        </div>
        <pre
          data-note
          tabIndex={0}
          aria-label="The note"
          role="region"
          className="mono overflow-x-auto border bg-paper p-3 text-tiny leading-[18px]"
        >
          {x.note}
        </pre>
      </Sheet>
    </div>
  );
}

/** One turn on the time line: when, what was asked, how it was answered, how long that took. */
function TurnLine({
  turn: t,
  place,
  here,
  mattered,
  longest,
  onChoose,
}: {
  turn: Turn;
  place: number;
  here: boolean;
  mattered: boolean;
  longest: number;
  onChoose: () => void;
}) {
  return (
    <li>
      <button
        type="button"
        data-turn={place}
        data-mattered={mattered || undefined}
        aria-current={here}
        onClick={onChoose}
        className={`grid w-full grid-cols-[64px_14px_minmax(0,1fr)] items-start gap-x-2 py-1 pr-3 pl-2 text-left text-small
          hover:bg-well/60 aria-[current=true]:bg-well`}
      >
        <span className="mono text-right text-soft">{t.at_ms.toFixed(t.at_ms < 100 ? 1 : 0)} ms</span>
        <span className="relative flex h-full min-h-5 justify-center" aria-hidden>
          <span className="absolute inset-y-0 -top-1 -bottom-1 w-px bg-hair" />
          {mattered ? (
            <svg viewBox="0 0 12 12" className="relative mt-1 size-3.5 text-stuck" aria-hidden>
              <path d="M6 0l6 11H0z" fill="currentColor" />
            </svg>
          ) : t.note ? (
            <span className="relative mt-2 size-1.5 rounded-full bg-soft" />
          ) : (
            <span
              className={`relative mt-1.5 size-2.5 rounded-full border-2 ${t.mark ? "border-stuck bg-sheet" : "border-open bg-sheet"}`}
            />
          )}
        </span>
        <span className="min-w-0">
          {t.note ? (
            <span className="line-clamp-2 text-soft">{t.note}</span>
          ) : (
            <>
              <span className="mono block truncate">{t.asked || "nobody asked"}</span>
              <span className="flex items-center gap-2">
                <span className={`truncate ${t.mark ? "font-medium text-stuck" : "text-soft"}`}>{t.answer || "no answer"}</span>
                <span className="grow" />
                {t.took_ms !== undefined && (
                  <>
                    <span
                      className="h-1.5 rounded-sm bg-open/60"
                      style={{ width: `${Math.max(2, (t.took_ms / longest) * 60)}px` }}
                      aria-hidden
                    />
                    <span className="mono w-16 shrink-0 text-right text-soft">{t.took_ms.toFixed(t.took_ms < 100 ? 1 : 0)} ms</span>
                  </>
                )}
              </span>
            </>
          )}
        </span>
      </button>
    </li>
  );
}

function TurnText({ turn: t, file, word }: { turn: Turn; file: string; word: string }) {
  if (t.note) return <pre className="mono whitespace-pre-wrap">{t.note}</pre>;
  return (
    <>
      {t.mark && (
        <p className="mb-3 border-l-4 border-stuck bg-sheet px-3 py-2 font-medium" data-mark>
          {t.mark.charAt(0).toUpperCase() + t.mark.slice(1)}.
        </p>
      )}
      <Said title="Sent" text={t.sent} word={word} />
      <Said title={t.took_ms === undefined ? "Answer" : `Answer after ${t.took_ms.toFixed(1)} ms`} text={t.got} word={word}>
        {t.sdp && (
          <button
            type="button"
            className="text-small underline hover:text-ink"
            onClick={() => saveText(`${file}.sdp`, t.sdp!, "application/sdp")}
          >
            Save the SDP as a file
          </button>
        )}
      </Said>
    </>
  );
}

function Said({ title, text, word, children }: { title: string; text?: string; word: string; children?: React.ReactNode }) {
  return (
    <section className="mb-4" aria-label={title}>
      <div className="mb-1 flex items-center gap-3">
        <h3 className="font-semibold">{title}</h3>
        {text && <Copy text={text} label="Copy" />}
        {children}
      </div>
      {text ? (
        <pre className="mono overflow-x-auto border bg-sheet p-3 text-small leading-[19px] break-all whitespace-pre-wrap">
          <Marked text={text} word={word} />
        </pre>
      ) : (
        <p className="text-soft">Nothing came.</p>
      )}
    </section>
  );
}

/** A text with what is searched for marked in it. */
function Marked({ text, word }: { text: string; word: string }) {
  if (!word) return text;
  const parts: React.ReactNode[] = [];
  const low = text.toLowerCase();
  const find = word.toLowerCase();
  let from = 0;
  for (let i = low.indexOf(find); i >= 0 && parts.length < 500; i = low.indexOf(find, from)) {
    parts.push(text.slice(from, i), <mark key={i}>{text.slice(i, i + find.length)}</mark>);
    from = i + find.length;
  }
  parts.push(text.slice(from));
  return parts;
}
