import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ArrowDown, ArrowUp, Eye, EyeOff, Plus, Trash2 } from "lucide-react";
import { useState } from "react";
import { toast } from "sonner";
import { api, must, type SignIn } from "@/api/client";
import { say, useSignIns, useSites } from "@/api/queries";
import { base64 } from "@/parts/base64";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { FileButton } from "@/parts/FileButton";
import { ago } from "@/parts/measures";
import { purposes } from "@/parts/SignInSheet";
import { Trouble } from "@/parts/Trouble";
import { useFrame } from "./SiteFrame";
import { Sure } from "@/parts/Sure";
import { keys } from "@/api/keys";

/** The sign-ins a person holds, in the order in which they are tried. */
export function Keyring() {
  const { addSignIn } = useFrame();
  const ring = useSignIns();
  const list = ring.data ?? [];
  const q = useQueryClient();
  const order = useMutation({
    mutationFn: (ids: string[]) => must(api.PUT("/api/sign-ins", { body: { ids } })),
    onSuccess: () => q.invalidateQueries({ queryKey: keys.signIns() }),
    onError: say,
  });
  const swap = (i: number) => {
    const ids = list.map((k) => k.id);
    [ids[i], ids[i + 1]] = [ids[i + 1]!, ids[i]!];
    order.mutate(ids);
  };
  return (
    <main className="h-full overflow-auto">
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
          <table className="w-full border-t">
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
              {list.map((k, i) => (
                <Row
                  key={k.id}
                  signIn={k}
                  up={i > 0 ? () => swap(i - 1) : undefined}
                  down={i < list.length - 1 ? () => swap(i) : undefined}
                />
              ))}
            </tbody>
          </table>
        )}
      </div>
    </main>
  );
}

/** Puts the sign-ins of a CSV file on the keyring. */
function BringKeys() {
  const q = useQueryClient();
  const load = useMutation({
    mutationFn: async (file: File) => must(api.POST("/api/sign-ins/import", { body: { content: await base64(file) } })),
    onSuccess: (out) => {
      q.invalidateQueries({ queryKey: keys.signIns() });
      toast(`${out.added} ${out.added === 1 ? "sign-in" : "sign-ins"} put on the keyring${out.known ? `, ${out.known} were there` : ""}`, {
        description: out.warnings.slice(0, 4).join(" ") || "Delete the file now: it holds passwords in the open.",
        duration: 10_000,
      });
    },
    onError: say,
  });
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

function Row({ signIn: k, up, down }: { signIn: SignIn; up?: () => void; down?: () => void }) {
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
  const q = useQueryClient();
  const [secret, setSecret] = useState<string | null>(null);
  const reveal = useMutation({
    mutationFn: () => must(api.POST("/api/sign-ins/{sign_in}/reveal", { params: { path: { sign_in: k.id } } })),
    onSuccess: (out) => {
      setSecret(out.secret);
      setTimeout(() => setSecret(null), 20_000);
    },
    onError: say,
  });
  const remove = useMutation({
    mutationFn: () => must(api.DELETE("/api/sign-ins/{sign_in}", { params: { path: { sign_in: k.id } } })),
    onSuccess: () => {
      q.invalidateQueries({ queryKey: keys.signIns() });
      toast(`“${k.label}” is off the keyring`);
    },
    onError: say,
  });
  return (
    <tr className="h-10 border-b [&>td]:px-2">
      <td className="font-medium">{k.label}</td>
      <td className="mono">{k.user}</td>
      <td className="whitespace-nowrap">
        <span className="mono mr-1">{secret ?? "••••••••"}</span>
        <button
          type="button"
          aria-label={secret === null ? `Show the password of ${k.label}` : "Hide the password"}
          title={secret === null ? "Show; who asked is recorded" : "Hide"}
          className="rounded-sm p-1 align-middle text-soft hover:bg-well hover:text-ink"
          onClick={() => (secret === null ? reveal.mutate() : setSecret(null))}
        >
          {secret === null ? <Eye size={14} /> : <EyeOff size={14} />}
        </button>
        {secret !== null && <Copy text={secret} label="Copy" />}
      </td>
      <td className="text-small max-md:hidden">
        {where}
        {k.factory && <span className="ml-2 text-stuck">factory password</span>}
        {k.weak && (
          <span className="block text-stuck" title={k.weak}>
            Weak: {k.weak}
          </span>
        )}
      </td>
      <td className="num text-right">
        {k.opens} {k.opens === 1 ? "device" : "devices"}
      </td>
      <td className="text-soft max-sm:hidden">{k.used_at ? ago(k.used_at) : "never"}</td>
      <td className="text-right whitespace-nowrap">
        <Button look="quiet" className="px-1" aria-label={`Try ${k.label} earlier`} title="Try it earlier" disabled={!up} onClick={up}>
          <ArrowUp size={14} />
        </Button>
        <Button look="quiet" className="px-1" aria-label={`Try ${k.label} later`} title="Try it later" disabled={!down} onClick={down}>
          <ArrowDown size={14} />
        </Button>
        <Sure
          ask={`Take “${k.label}” off the keyring?`}
          more={`${k.opens ? `It opens ${k.opens} ${k.opens === 1 ? "device" : "devices"}, which will ask for a sign-in again. ` : ""}The password is gone with it, and nobody can bring it back from here.`}
          yes="Take off the keyring"
          onYes={() => remove.mutate()}
        >
          <Button look="quiet" className="px-2" aria-label={`Take ${k.label} off the keyring`} title="Take off the keyring">
            <Trash2 size={14} />
          </Button>
        </Sure>
      </td>
    </tr>
  );
}
