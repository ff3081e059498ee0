import { KeyRound } from "lucide-react";
import type { Device } from "@/api/client";
import { backToBefore, say, useForget, useSetAddress } from "@/api/actions";
import { useMay } from "@/api/queries";
import { AgreeForTarget } from "@/forms/AgreeForTarget";
import { Button } from "@/parts/Button";
import { WhichMenu } from "@/parts/WhichMenu";
import { PlaceMenu } from "@/parts/PlaceMenu";
import { canGoOn, isStuck, serviceOpens, waitFor, watchable } from "@/parts/latches";
import { useFrame } from "@/parts/useFrame";
import { Sure } from "@/parts/Sure";

/** Cameras that nobody has named and that call themselves what others call themselves too. */
function nameless(cameras: Device[]) {
  const count = new Map<string, number>();
  for (const d of cameras) count.set(d.name, (count.get(d.name) ?? 0) + 1);
  return cameras.filter((d) => !d.named && count.get(d.name)! > 1);
}

type Actions = {
  all: Device[];
  go: (list: Device[]) => void;
  busy: boolean;
  onAgree: (list: Device[]) => void;
  onAddress: (list: Device[]) => void;
  onClaim: (list: Device[]) => void;
  onStreamUser: (list: Device[]) => void;
  onPlaced: () => void;
  onWatch: (list: Device[]) => void;
  onName: (list: Device[]) => void;
};

const many = (n: number, what = "camera") => `${n} ${what}${n === 1 ? "" : "s"}`;

/** What to do next, for the selection or for the whole site. */
export function ActionBar({
  picked,
  cameras,
  quiet,
  children,
  ...actions
}: Actions & { picked: Device[]; cameras: Device[]; quiet: boolean; children: React.ReactNode }) {
  const { all, go, busy, onAgree, onClaim, onStreamUser, onWatch, onName } = actions;
  // While a camera is in hand, the brass button is its own next step.
  const may = useMay();
  const look = quiet ? "plain" : "next";
  const { addSignIn, site } = useFrame();
  const ready = all.filter(canGoOn);
  const proven = cameras.filter((d) => d.next.action === "place");
  const stuck = cameras.filter(isStuck);
  const fresh = cameras.filter((d) => d.next.action === "claim");
  const wantKey = stuck.filter((d) => d.next.action === "add_sign_in");
  const asks = all.filter((d) => d.next.action === "agree");
  const heldBy = all.find((d) => d.next.action === "agree_target")?.next.target;
  const apart = cameras.filter((d) => d.next.action === "stream_user");
  const watched = picked.filter(watchable);
  const alike = nameless(cameras);
  if (!may("work"))
    return (
      <div className="flex min-h-12 shrink-0 flex-wrap items-center gap-2 border-b px-4 py-2">
        <span className="text-soft">You may look at this site, and change nothing on it.</span>
        {watched.length > 0 && <Button onClick={() => onWatch(watched)}>{watched.length === 1 ? "Watch it" : "Watch them"}</Button>}
        {children}
      </div>
    );
  return (
    <div className="flex min-h-12 shrink-0 flex-wrap items-center gap-2 border-b px-4 py-2">
      {picked.length > 0 ? (
        <ForPicked picked={picked} {...actions} />
      ) : ready.length > 0 ? (
        <>
          <Button look={look} disabled={busy} onClick={() => go(ready)}>
            Open latches of {many(ready.length, "device")}
          </Button>
          <span className="text-soft max-sm:hidden">{ready.length === 1 ? "It waits" : "They wait"} for nothing but this.</span>
        </>
      ) : fresh.length > 0 ? (
        <>
          <Button look={look} onClick={() => onClaim(fresh)}>
            Claim {many(fresh.length)}
          </Button>
          <span className="text-soft max-sm:hidden">Fresh from the factory: {fresh.length === 1 ? "it lets" : "they let"} anyone in.</span>
        </>
      ) : asks.length > 0 ? (
        <>
          <Button look={look} onClick={() => onAgree(asks)}>
            Agree to basic for {many(asks.length, "device")}
          </Button>
          <span className="text-soft max-sm:hidden">
            {asks.length === 1 ? "It takes" : "They take"} a sign-in only so that it can be read.
          </span>
        </>
      ) : heldBy ? (
        <>
          <AgreeForTarget site={site.id} target={heldBy} devices={all} quiet={quiet} />
          <span className="text-soft max-sm:hidden">
            {many(waitFor(all, heldBy).length)}: nothing was sent to it, because what it is given can be read on the way.
          </span>
        </>
      ) : apart.length > 0 ? (
        <>
          <Button look={look} onClick={() => onStreamUser(apart)}>
            Make a stream user on {many(apart.length)}
          </Button>
          <span className="text-soft max-sm:hidden">
            {apart.length === 1 ? "Its streams keep" : "Their streams keep"} users of their own.
          </span>
        </>
      ) : proven.length > 0 ? (
        <>
          <PlaceMenu site={site.id} cameras={proven} busy={busy} next={!quiet} />
          <span className="text-soft max-sm:hidden">{proven.length === 1 ? "Its streams are" : "Their streams are"} proven.</span>
        </>
      ) : wantKey.length > 0 ? (
        <>
          <Button look={look} onClick={() => addSignIn(undefined, () => go(wantKey))}>
            <KeyRound size={15} /> Add a sign-in
          </Button>
          <span className="text-soft">
            {many(wantKey.length)} {wantKey.length === 1 ? "refuses" : "refuse"} the keyring.
          </span>
        </>
      ) : stuck.length > 0 ? (
        <span className="text-soft">{many(stuck.length)} stuck: choose one to see why.</span>
      ) : (
        <span className="text-open">Every latch is open.</span>
      )}
      <span className="grow" />
      {picked.length === 0 && alike.length > 0 && (
        <Button look="quiet" className="@max-4xl:hidden" onClick={() => onName(alike)}>
          Name {many(alike.length)}
        </Button>
      )}
      {children}
    </div>
  );
}

/** What can be done with the selection. Brass is on what most of it waits for. */
function ForPicked({ picked, ...p }: Actions & { picked: Device[] }) {
  const { all, go, busy, onAgree, onAddress, onClaim, onStreamUser, onPlaced, onWatch, onName } = p;
  const { site } = useFrame();
  const cameras = picked.filter((d) => d.kind === "camera");
  // What hangs on a recorder's switch has its address from there; a recorder does not go into the cameras' pool by the way.
  const wired = (cameras.length > 0 ? cameras : picked).filter((d) => !d.via);
  const placeable = cameras.filter((d) => d.next.action === "place").length;
  const openable = picked.filter((d) => canGoOn(d) || isStuck(d)).length;
  const placeFirst = placeable > 0 && placeable >= openable;
  const fresh = picked.filter((d) => d.next.action === "claim");
  const asks = picked.filter((d) => d.next.action === "agree");
  const heldBy = picked.find((d) => d.next.action === "agree_target")?.next.target;
  const mine = picked.filter(serviceOpens);
  const watched = picked.filter(watchable);
  return (
    <>
      <span className="num font-medium">{picked.length} selected</span>
      <Button look={placeFirst ? "plain" : "next"} disabled={busy} onClick={() => go(picked)}>
        Open latches of {many(picked.length, "device")}
      </Button>
      {cameras.length > 0 && <PlaceMenu site={site.id} cameras={cameras} busy={busy} next={placeFirst} onDone={onPlaced} />}
      {cameras.length > 0 && (
        <Button title="R" onClick={() => onName(cameras)}>
          Name …
        </Button>
      )}
      {watched.length > 0 && (
        <Button title={watched.length > 9 ? "The first nine (W)" : "W"} onClick={() => onWatch(watched)}>
          {watched.length === 1 ? "Watch it" : "Walk test"}
        </Button>
      )}
      <WhichMenu site={site.id} cameras={picked} />
      {fresh.length > 0 && <Button onClick={() => onClaim(fresh)}>Claim {many(fresh.length, "device")}</Button>}
      {asks.length > 0 && <Button onClick={() => onAgree(asks)}>Agree to basic for {many(asks.length, "device")}</Button>}
      {heldBy && <AgreeForTarget site={site.id} target={heldBy} devices={all} quiet />}
      {mine.length > 0 && <Button onClick={() => onStreamUser(mine)}>Stream user</Button>}
      {wired.length > 0 && <Button onClick={() => onAddress(wired)}>Addresses</Button>}
      <UndoAddresses devices={picked} />
      <ForgetButton devices={picked} />
    </>
  );
}

/** Removes what is selected with its evidence. */
function ForgetButton({ devices }: { devices: Device[] }) {
  const { site } = useFrame();
  const forget = useForget(site.id);
  return (
    <Sure
      ask={`Forget ${devices.length} devices?`}
      more="What was recorded of them goes with them. Those that are still on the network are found anew by the next sweep."
      yes={`Forget ${devices.length} with their evidence`}
      onYes={() => forget.mutate(devices.map((d) => d.id))}
    >
      <Button look="quiet" disabled={forget.isPending}>
        Forget
      </Button>
    </Sure>
  );
}

/** Puts devices back to the addresses that they had before. */
function UndoAddresses({ devices }: { devices: Device[] }) {
  const { site } = useFrame();
  const send = useSetAddress(site.id);
  const moved = devices.filter((d) => d.moved && !d.moved.failed && d.address === d.moved.after.addr);
  if (moved.length === 0 || moved.length < devices.length) return null;
  return (
    <Button
      disabled={send.isPending}
      onClick={() =>
        send.mutate(
          {
            title: `Undo the address change of ${moved.length === 1 ? moved[0]!.name : `${moved.length} devices`}`,
            lines: backToBefore(moved),
          },
          { onError: say },
        )
      }
    >
      Undo address change
    </Button>
  );
}
