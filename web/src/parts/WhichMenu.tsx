import { Popover } from "radix-ui";
import { useState } from "react";
import { useMark } from "@/api/actions";
import type { Device } from "@/api/client";
import { Button } from "./Button";
import { serviceOpens } from "./latches";

/** Has cameras show which one they are: by moving a little and back, or by a text in their picture for a while. */
export function WhichMenu({ site, cameras }: { site: string; cameras: Device[] }) {
  const mark = useMark(site);
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const list = cameras.filter(serviceOpens);
  if (list.length === 0) return null;
  const many = list.length === 1 ? "" : ` all ${list.length}`;
  const send = (how: "nudge" | "label") => {
    setOpen(false);
    mark.mutate({ devices: list, how, text: how === "label" ? text.trim() : undefined });
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger asChild>
        <Button>Which one?</Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="start" sideOffset={4} className="z-50 w-80 max-w-[94vw] rounded-md border bg-sheet p-3 shadow-xl">
          <p className="font-semibold">Let it show itself</p>
          <div className="mt-2 flex items-start gap-2">
            <Button disabled={mark.isPending} onClick={() => send("nudge")}>
              Nudge{many}
            </Button>
            <span className="text-small text-soft">It turns a little and looks back where it did. For cameras that move.</span>
          </div>
          <form
            className="mt-3 border-t pt-3"
            onSubmit={(e) => {
              e.preventDefault();
              send("label");
            }}
          >
            <label className="text-small text-soft" htmlFor="label-text">
              A text in its picture for 20 seconds
            </label>
            <div className="mt-1 flex gap-2">
              <input
                id="label-text"
                value={text}
                maxLength={40}
                onChange={(e) => setText(e.target.value)}
                placeholder={list.length === 1 ? `>>> ${list[0]!.address} <<<` : "each its own address"}
                className="mono h-8 min-w-0 grow rounded-md border bg-paper px-2"
              />
              <Button type="submit" disabled={mark.isPending}>
                Label{many}
              </Button>
            </div>
          </form>
          <p className="mt-2 text-small text-soft">What was before is written down first and put back, whatever happens meanwhile.</p>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
