import { ArrowDown, ArrowUp, Eye, EyeOff, Plus, Trash2 } from "lucide-react";
import { useRef, useState } from "react";
import { useBringSignIns, useDropSignIn, useOrderSignIns, useReveal } from "@/api/actions";
import type { SignIn } from "@/api/client";
import { useSignIns, useSites } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { FileButton } from "@/parts/FileButton";
import { ago } from "@/parts/measures";
import { purposes } from "@/forms/SignInSheet";
import { Trouble } from "@/parts/Trouble";
import { VirtualRows, type Measured } from "@/parts/VirtualRows";
import { useFrame } from "@/parts/useFrame";
import { Sure } from "@/parts/Sure";

/** The sign-ins a person holds, in the order in which they are tried. */
export function Keyring() {
  const { addSignIn } = useFrame();
  const ring = useSignIns();
  const list = ring.data ?? [];
  const weak = list.filter((k) => k.weak).length;
  const scroller = useRef<HTMLDivElement>(null);
  const order = useOrderSignIns();
  const swap = (i: number) => {
    const ids = list.map((k) => k.id);
    [ids[i], ids[i + 1]] = [ids[i + 1]!, ids[i]!];
    order.mutate(ids);
  };
  return (
    <div ref={scroller} className="h-full overflow-auto">
      <div className="mx-auto max-w-4xl p-4 sm:p-8">
        <div className="mb-1 flex items-center justify-between">
          <h1 className="text-xl font-semibold">Keyring</h1>
          <span className="flex gap-2">
            <BringKeys />
            {list.length > 0 && (
              <Button onClick={() => addSignIn()}>
                <Plus size={16} /> Add a sign-in
              </Button>
            )}
          </span>
        </div>
        <p className="mb-4 max-w-xl text-soft">
          Sign-ins to try on devices: first what opened a device before, then what is for it, its maker and the site, then what opens others
          of its kind, then from the top. Unlatch tries these and no others, sends a refused one never twice to the same device, and stops
          after three wrong tries in a quarter of an hour, before a device would lock.
        </p>
        {weak > 0 && (
          <p className="mb-4 max-w-xl border-l-4 border-stuck bg-sheet px-3 py-2">
            {weak === 1 ? "One password" : `${weak} passwords`} can be guessed: whoever answers at a device’s address once takes a digest
            away and tries words on it. A password of 55 bits or more is good; set it on the devices first, then here.
          </p>
        )}
        <Trouble error={ring.error} />
        {ring.data && list.length === 0 && (
          <div className="border-y py-12 text-center">
            <p className="mb-1 text-lg">The keyring is empty</p>
            <p className="mb-5 text-soft">Add the sign-in that this site’s cameras share. One is often enough for all of them.</p>
            <Button look="next" className="h-10 px-5" onClick={() => addSignIn()}>
              Add the first sign-in
            </Button>
          </div>
        )}
        {list.length > 0 && (
          <table className="w-full border-t" aria-rowcount={list.length + 1}>
            <thead>
              <tr className="h-7 border-b text-left text-small text-soft [&>th]:px-2 [&>th]:font-normal">
                <th>Name</th>
                <th>User</th>
                <th>Password</th>
                <th className="max-md:hidden">Where</th>
                <th className="text-right">Opens</th>
                <th className="max-sm:hidden">Last tried</th>
                <th />
              </tr>
            </thead>
            <tbody>
              <VirtualRows
                items={list}
                scroller={scroller}
                height={41}
                id={(k) => k.id}
                row={(k, i, measured) => (
                  <Row
                    signIn={k}
                    measured={measured}
                    up={i > 0 ? () => swap(i - 1) : undefined}
                    down={i < list.length - 1 ? () => swap(i) : undefined}
                  />
                )}
              />
            </tbody>
          </table>
        )}
      </div>
    </div>
  );
}

/** Puts the sign-ins of a CSV file on the keyring. */
function BringKeys() {
  const load = useBringSignIns();
  return (
    <FileButton
      name="Sign-ins file"
      accept=".csv,.tsv,.txt,text/csv"
      title="CSV with the headings user, password, and if you like name, maker, purpose, note, factory"
      disabled={load.isPending}
      onFile={(f) => load.mutate(f)}
    >
      From a CSV file
    </FileButton>
  );
}

function Row({ signIn: k, measured, up, down }: { signIn: SignIn; measured: Measured; up?: () => void; down?: () => void }) {
  const sites = useSites();
  const where =
    [
      k.maker && `${k.maker} only`,
      k.site && `${sites.data?.find((s) => s.id === k.site)?.name ?? "one site"} only`,
      k.bound &&
        (k.devices?.length === 1
          ? "one device only"
          : k.devices?.length
            ? `${k.devices.length} devices only`
            : "for devices that are gone: tried nowhere"),
      k.purpose && `for ${purposes[k.purpose]}`,
    ]
      .filter(Boolean)
      .join(", ") || "everywhere";
  const [secret, setSecret] = useState<string | null>(null);
  const reveal = useReveal();
  const show = () =>
    reveal.mutate(k.id, {
      onSuccess: (out) => {
        setSecret(out.secret);
        setTimeout(() => setSecret(null), 20_000);
      },
    });
  const remove = useDropSignIn();
  return (
    <tr {...measured} className="h-10 border-b [&>td]:px-2">
      <td className="font-medium whitespace-nowrap">{k.label}</td>
      <td className="mono">{k.user}</td>
      <td className="whitespace-nowrap">
        <span className="mono mr-1">{secret ?? "••••••••"}</span>
        <button
          type="button"
          aria-label={secret === null ? `Show the password of ${k.label}` : "Hide the password"}
          title={secret === null ? "Show; who asked is recorded" : "Hide"}
          className="rounded-sm p-1 align-middle text-soft hover:bg-well hover:text-ink"
          onClick={() => (secret === null ? show() : setSecret(null))}
        >
          {secret === null ? <Eye size={14} /> : <EyeOff size={14} />}
        </button>
        {secret !== null && <Copy text={secret} label="Copy" />}
      </td>
      <td className="text-small max-md:hidden">
        {where}
        {k.factory && <span className="ml-2 text-stuck">factory password</span>}
        {k.weak && (
          <span className="ml-2 text-stuck" title={`Weak: ${k.weak}`}>
            weak
          </span>
        )}
      </td>
      <td className="num text-right whitespace-nowrap">
        {k.opens} {k.opens === 1 ? "device" : "devices"}
      </td>
      <td className="whitespace-nowrap text-soft max-sm:hidden">{k.used_at ? ago(k.used_at) : "never"}</td>
      <td className="text-right whitespace-nowrap">
        <Button look="quiet" className="px-1" aria-label={`Try ${k.label} earlier`} title="Try it earlier" disabled={!up} onClick={up}>
          <ArrowUp size={14} />
        </Button>
        <Button look="quiet" className="px-1" aria-label={`Try ${k.label} later`} title="Try it later" disabled={!down} onClick={down}>
          <ArrowDown size={14} />
        </Button>
        <Sure
          ask={`Take “${k.label}” off the keyring?`}
          more={`${opensNow(k.opens)}The password is gone with it, and nobody can bring it back from here.`}
          yes="Take off the keyring"
          onYes={() => remove.mutate(k)}
        >
          <Button look="quiet" className="px-2" aria-label={`Take ${k.label} off the keyring`} title="Take off the keyring">
            <Trash2 size={14} />
          </Button>
        </Sure>
      </td>
    </tr>
  );
}

const opensNow = (n: number) => (n ? `It opens ${n} ${n === 1 ? "device" : "devices"}, which will ask for a sign-in again. ` : "");
