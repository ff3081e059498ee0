import { Command } from "cmdk";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { useSearch } from "@/api/queries";
import { useDelayed } from "./useDelayed";
import { Sheet } from "./Sheet";
import { Check } from "./Check";
import { keyHelp, setSingleKeys, singleKeys, useKeys } from "./keys";

export type Action = { name: string; keys?: string; run: () => void };

/** Cameras of all sites that hold what is typed. */
function Elsewhere({ text, pick }: { text: string; pick: (path: string) => void }) {
  const asked = useDelayed(text.trim(), 200);
  const found = useSearch(asked);
  return (found.data ?? []).map((d) => (
    <Command.Item
      key={d.id}
      value={`${d.name} ${d.address} ${d.site_name} ${asked} ${d.id}`}
      onSelect={() => pick(`/sites/${d.site}?device=${d.id}`)}
      className={item}
    >
      <span className="truncate">
        {d.name} <span className="mono text-soft">{d.address}</span>
      </span>
      <span className="text-soft">{d.site_name}</span>
    </Command.Item>
  ));
}

const item = "flex h-9 cursor-pointer items-center justify-between gap-3 rounded-sm px-3 data-[selected=true]:bg-well";

/** The command palette (Ctrl K) and the sheet of keys (?). */
export function Palette({ actions, open, setOpen }: { actions: Action[]; open: boolean; setOpen: (open: boolean) => void }) {
  const go = useNavigate();
  const [text, setText] = useState("");
  const [help, setHelp] = useState(false);
  const [single, setSingle] = useState(singleKeys);
  const switchSingle = () => {
    setSingleKeys(!single);
    setSingle(!single);
  };
  useEffect(() => {
    const on = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
        e.preventDefault();
        setOpen(!open);
      }
    };
    window.addEventListener("keydown", on);
    return () => window.removeEventListener("keydown", on);
  }, [open, setOpen]);
  useKeys({ "?": () => setHelp(true) });
  return (
    <>
      <Command.Dialog
        open={open}
        onOpenChange={setOpen}
        label="Commands"
        overlayClassName="fixed inset-0 z-40 bg-black/45"
        contentClassName="fixed top-[14vh] left-1/2 z-50 w-[min(94vw,560px)] -translate-x-1/2 rounded-md border bg-sheet shadow-2xl"
      >
        <Command.Input
          value={text}
          onValueChange={setText}
          placeholder="What to do, or a camera, an address or a target, on any site"
          className="h-12 w-full border-b bg-transparent px-4 text-lead outline-none"
        />
        <Command.List className="max-h-[50vh] overflow-auto p-1">
          <Command.Empty className="px-3 py-4 text-soft">Nothing is called that.</Command.Empty>
          {[...actions, { name: "Show all keys", keys: "?", run: () => setHelp(true) }].map((a) => (
            <Command.Item
              key={a.name}
              value={a.name}
              onSelect={() => {
                setOpen(false);
                a.run();
              }}
              className={item}
            >
              <span className="truncate">{a.name}</span>
              {a.keys && <kbd className="mono text-soft">{a.keys}</kbd>}
            </Command.Item>
          ))}
          {open && (
            <Elsewhere
              text={text}
              pick={(path) => {
                setOpen(false);
                go(path);
              }}
            />
          )}
        </Command.List>
      </Command.Dialog>
      <Sheet title="Keys" open={help} onOpenChange={setHelp}>
        <dl className="grid grid-cols-[auto_1fr] gap-x-6 gap-y-1.5">
          {keyHelp.map(([k, what]) => (
            <div key={k} className="contents">
              <dt>
                <kbd className="mono rounded-sm border bg-well px-1.5 py-0.5">{k}</kbd>
              </dt>
              <dd>{what}</dd>
            </div>
          ))}
        </dl>
        <label className="mt-4 flex items-center gap-2 border-t pt-3">
          <Check checked={single} onChange={switchSingle} label="Single letters and digits are commands" />
          <span>
            Single letters and digits are commands <span className="text-soft">(off: all of them are under Ctrl K)</span>
          </span>
        </label>
      </Sheet>
    </>
  );
}
