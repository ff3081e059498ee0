import { Minus, Plus, Scan } from "lucide-react";
import { type KeyboardEvent, type PointerEvent, useCallback, useMemo, useState } from "react";
import type { Device, SitePlan } from "@/api/client";
import { type Mark, useMark, useTakeOffPlan } from "@/api/siteplans";
import { Button } from "@/parts/Button";
import { useFrame } from "@/parts/useFrame";
import { MarkCard } from "./MarkCard";
import { PlanMark } from "./PlanMark";
import { usePlanLook } from "./usePlanLook";

/** One plan with its cameras: dragged and zoomed as a whole without drawing anything anew; marks are dragged, turned and pressed. */
export function SitePlanView({
  plan,
  devices,
  hand,
  onPut,
}: {
  plan: SitePlan;
  devices: Device[];
  /** The camera that the next press on the plan puts there. */
  hand?: Device;
  onPut: () => void;
}) {
  const { site } = useFrame();
  const { box, sheet, look, show, dragging, fit, zoom, shareOf, follow } = usePlanLook(plan);
  const [chosen, setChosen] = useState<string | null>(null);
  const [moving, setMoving] = useState<Mark | null>(null);
  const put = useMark(site.id);
  const off = useTakeOffPlan(site.id);
  const byID = useMemo(() => new Map(devices.map((d) => [d.id, d])), [devices]);
  const chosenMark = plan.marks.find((m) => m.device === chosen);

  const save = useCallback((m: Mark) => put.mutate({ plan: plan.id, mark: m }), [put.mutate, plan.id]);

  const onGround = (e: PointerEvent) => {
    if (e.button !== 0) return;
    const at = look.current;
    const from = { x: e.clientX, y: e.clientY };
    dragging(true);
    follow(
      e,
      (n) => show({ ...at, x: at.x + n.clientX - from.x, y: at.y + n.clientY - from.y }),
      (n, moved) => {
        dragging(false);
        if (moved) return;
        if (!hand) return setChosen(null);
        save({ device: hand.id, ...shareOf(n), view: 70 });
        setChosen(hand.id);
        onPut();
      },
    );
  };
  const onMark = useCallback(
    (e: PointerEvent, m: Mark) => {
      e.stopPropagation();
      setChosen(m.device);
      follow(
        e,
        (n) => setMoving({ ...m, ...shareOf(n) }),
        (n, moved) => {
          setMoving(null);
          if (moved) save({ ...m, ...shareOf(n) });
        },
      );
    },
    [save, follow, shareOf],
  );
  const onKey = useCallback(
    (e: KeyboardEvent, m: Mark) => {
      const step = e.shiftKey ? 0.05 : 0.01;
      const to = { ArrowLeft: { x: -step }, ArrowRight: { x: step }, ArrowUp: { y: -step }, ArrowDown: { y: step } }[e.key] as
        | { x?: number; y?: number }
        | undefined;
      const within = (v: number) => Math.max(0, Math.min(1, v));
      if (to) save({ ...m, x: within(m.x + (to.x ?? 0)), y: within(m.y + (to.y ?? 0)) });
      else if (e.key === "[" || e.key === "]") save({ ...m, direction: ((m.direction ?? 0) + (e.key === "]" ? 15 : 345)) % 360 });
      else if (e.key === "Delete") off.mutate({ plan: plan.id, mark: m, name: byID.get(m.device)?.name ?? "It" });
      else if (e.key === "Escape") setChosen(null);
      else return;
      e.preventDefault();
      e.stopPropagation();
    },
    [save, off.mutate, plan.id, byID],
  );
  return (
    <div
      ref={box}
      role="group"
      aria-label={`Plan ${plan.name}`}
      className={`relative min-h-0 grow touch-none overflow-hidden bg-well ${hand ? "cursor-crosshair" : "cursor-grab"}`}
      onPointerDown={onGround}
    >
      <div ref={sheet} className="absolute top-0 left-0 origin-top-left" style={{ width: plan.width, height: plan.height }}>
        <img
          src={`/api/sites/${site.id}/site-plans/${plan.id}/picture`}
          alt={`Plan ${plan.name}`}
          className="pointer-events-none size-full select-none"
          draggable={false}
        />
        {plan.marks.map((m) => {
          const d = byID.get(m.device);
          if (!d) return null;
          const now = moving?.device === m.device ? moving : m;
          return (
            <PlanMark
              key={m.device}
              mark={now}
              device={d}
              chosen={chosen === m.device}
              onDown={onMark}
              onKey={onKey}
              onChoose={setChosen}
            />
          );
        })}
      </div>
      <div className="absolute top-3 right-3 flex flex-col gap-1" onPointerDown={(e) => e.stopPropagation()}>
        <Button aria-label="Closer" className="px-2" onClick={() => zoom(1.4)}>
          <Plus size={15} />
        </Button>
        <Button aria-label="Further away" className="px-2" onClick={() => zoom(1 / 1.4)}>
          <Minus size={15} />
        </Button>
        <Button aria-label="The whole plan" className="px-2" onClick={fit}>
          <Scan size={15} />
        </Button>
      </div>
      {chosenMark && byID.get(chosenMark.device) && (
        <MarkCard
          device={byID.get(chosenMark.device)!}
          mark={chosenMark}
          onChange={save}
          onTakeOff={() => off.mutate({ plan: plan.id, mark: chosenMark, name: byID.get(chosenMark.device)!.name })}
        />
      )}
    </div>
  );
}
