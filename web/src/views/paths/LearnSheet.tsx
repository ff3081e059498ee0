import { useState } from "react";
import { useBringBook } from "@/api/actions";
import { useLearnCommand } from "@/api/commands";
import { Field } from "@/forms/Field";
import { Button } from "@/parts/Button";
import { Choice } from "@/parts/Choice";
import { Foot } from "@/parts/Foot";
import { Sheet } from "@/parts/Sheet";

type Text = "name" | "does" | "maker" | "first" | "firstPage" | "second" | "secondPage" | "pagePath" | "tokenPath" | "tokenPage";
const empty: Record<Text, string> = {
  name: "",
  does: "",
  maker: "",
  first: "",
  firstPage: "",
  second: "",
  secondPage: "",
  pagePath: "",
  tokenPath: "",
  tokenPage: "",
};

/** Makes a command of two requests that worked in a browser: what differs between them is what can be chosen. */
export function LearnSheet({ onClose }: { onClose: () => void }) {
  const [text, setText] = useState(empty);
  const [marks, setMarks] = useState<Record<string, string>>({});
  const [yaml, setYaml] = useState<string | null>(null);
  const learn = useLearnCommand();
  const keep = useBringBook();
  const put = (name: Text) => (e: { target: { value: string } }) => setText((t) => ({ ...t, [name]: e.target.value }));
  const marked = (as: string) => Object.keys(marks).filter((where) => marks[where] === as);
  const ask = (now = marks) => {
    const of = (as: string) => Object.keys(now).filter((where) => now[where] === as);
    learn.mutate(
      {
        name: text.name.trim(),
        does: text.does.trim(),
        maker: text.maker.trim(),
        first: { request: text.first, page: text.firstPage },
        second: { request: text.second, page: text.secondPage },
        page_path: text.pagePath.trim(),
        fixed: of("fixed"),
        tokens: of("token"),
        token_path: text.tokenPath.trim(),
        token_page: text.tokenPage,
      },
      { onSuccess: (out) => setYaml(out.yaml) },
    );
  };
  const varies = learn.data?.varies ?? [];
  const wantsToken = marked("token").length > 0 || varies.some((v) => v.token);
  const ready = [text.name, text.does, text.maker, text.first, text.second, text.pagePath].every((t) => t.trim() !== "");
  return (
    <Sheet title="Learn a command from two requests" open onOpenChange={(open) => !open && onClose()} wide>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (yaml === null) ask();
          else keep.mutate(yaml, { onSuccess: onClose });
        }}
      >
        <p className="mb-3 text-soft">
          On the device’s own page, change one setting twice, to two values. Each time copy the request out of the browser’s network view,
          as it is or as curl, and then the page that shows the setting. Sign-ins and cookies are left out.
        </p>
        <div className="grid gap-3 sm:grid-cols-3">
          <Field label="Name" name="name" autoComplete="off" value={text.name} onChange={put("name")} />
          <Field label="What it does" name="does" autoComplete="off" value={text.does} onChange={put("does")} />
          <Field label="Maker, with * and ?" name="maker" autoComplete="off" mono value={text.maker} onChange={put("maker")} />
        </div>
        <div className="mt-3 grid gap-3 sm:grid-cols-2">
          <Area label="First request" value={text.first} onChange={put("first")} hint={"POST /page HTTP/1.1\n\nname=value"} />
          <Area label="Second request" value={text.second} onChange={put("second")} hint="the same with another value" />
          <Area label="The page after the first" value={text.firstPage} onChange={put("firstPage")} hint='{"name": "value"}' />
          <Area label="The page after the second" value={text.secondPage} onChange={put("secondPage")} hint="" />
        </div>
        <Field
          className="mt-3 sm:w-1/2"
          label="Path of that page"
          name="page"
          autoComplete="off"
          mono
          placeholder="/setup.json"
          value={text.pagePath}
          onChange={put("pagePath")}
        />
        {wantsToken && (
          <div className="mt-3 grid gap-3 sm:grid-cols-2">
            <Field
              label="Path of the page that gives the token"
              name="token"
              autoComplete="off"
              mono
              value={text.tokenPath}
              onChange={put("tokenPath")}
            />
            <Area label="That page, with the second request’s token in it" value={text.tokenPage} onChange={put("tokenPage")} hint="" />
          </div>
        )}
        {varies.length > 0 && (
          <section aria-label="What varies" className="mt-3 border-t pt-2">
            <h3 className="mb-1 text-small text-soft">What varies</h3>
            {varies.map((v) => (
              <div key={v.where} data-varies={v.where} className="flex flex-wrap items-center gap-3 py-1">
                <span className="mono min-w-40">{v.where}</span>
                <span className="mono grow text-small break-all text-soft">
                  {v.first} · {v.second}
                  {!v.token && (v.read ? <> · shown at {v.read}</> : <span className="text-stuck"> · the page does not show it</span>)}
                </span>
                <Choice
                  label={`What ${v.where} is`}
                  value={marks[v.where] ?? (v.token ? "token" : "value")}
                  onChange={(as) => {
                    const now = { ...marks, [v.where]: as };
                    setMarks(now);
                    ask(now);
                  }}
                  options={[
                    ["value", "to choose"],
                    ["token", "a token"],
                    ["fixed", "as it is"],
                  ]}
                  className="gap-1"
                />
              </div>
            ))}
          </section>
        )}
        {yaml !== null && (
          <Area
            label="The command; mend it here where it should be another"
            value={yaml}
            onChange={(e) => setYaml(e.target.value)}
            rows={12}
            hint=""
          />
        )}
        <Foot error={learn.error ?? keep.error}>
          <Button onClick={onClose}>Cancel</Button>
          {yaml !== null && <Button onClick={() => ask()}>Read them again</Button>}
          <Button look="next" type="submit" disabled={!ready || learn.isPending || keep.isPending}>
            {yaml === null ? "Read them" : "Keep it in the path book"}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}

type AreaProps = { label: string; value: string; onChange: (e: { target: { value: string } }) => void; hint: string; rows?: number };

function Area({ label, hint, rows = 4, ...rest }: AreaProps) {
  return (
    <label className="block text-small text-soft">
      {label}
      <textarea
        {...rest}
        rows={rows}
        spellCheck={false}
        placeholder={hint}
        className="mono mt-1 w-full rounded-md border bg-paper p-2 text-small text-ink"
      />
    </label>
  );
}
