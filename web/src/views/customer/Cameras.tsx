import { useState } from "react";
import { useParams } from "react-router";
import type { Camera } from "@/api/client";
import { packFile, useHandoverVersions } from "@/api/handover";
import { useCameras, useSites } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Choice } from "@/parts/Choice";
import { LivePicture } from "@/parts/LivePicture";
import { stillUrl } from "@/parts/measures";
import { PageHead } from "@/parts/PageHead";
import { SignSheet } from "@/forms/SignSheet";
import { Still } from "@/parts/Still";
import { Trouble } from "@/parts/Trouble";

const says: Record<Camera["state"], string> = {
  works: "Works",
  shows: "Shows a picture; somebody is still at it",
  setting_up: "Being set up",
  no_picture: "No picture at the moment",
};

/** A site for whoever may look and no more: its cameras in plain words, one of them live. */
export function Cameras() {
  const id = useParams().site!;
  const cameras = useCameras(id);
  const site = useSites().data?.find((s) => s.id === id);
  const [live, setLive] = useState<string | null>(null);
  const list = cameras.data ?? [];
  const shown = list.find((c) => c.id === live);
  return (
    <div className="flex min-h-full flex-col">
      <PageHead title={site?.name ?? "Cameras"} />
      <main className="mx-auto w-full max-w-6xl p-4 sm:p-8">
        <Papers site={id} />
        <h1 className="sr-only">Cameras of {site?.name}</h1>
        <Trouble error={cameras.error} />
        {cameras.data && list.length === 0 && <p className="border-y py-12 text-center text-soft">No camera here yet.</p>}
        {shown && <Large key={shown.id} camera={shown} onClose={() => setLive(null)} />}
        <ul className="grid gap-4 sm:grid-cols-2 lg:grid-cols-3">
          {list.map((c) => (
            <li key={c.id}>
              <button
                type="button"
                disabled={c.roles.length === 0}
                title={c.roles.length > 0 ? "Look at it live" : undefined}
                className="block w-full rounded-sm text-left enabled:hover:bg-well"
                onClick={() => {
                  setLive(c.id);
                  scrollTo({ top: 0 });
                }}
              >
                <Still src={c.still ? stillUrl(c.still) : undefined} name={c.name} className="aspect-video w-full" />
                <span className="flex items-baseline justify-between gap-2 p-1">
                  <span className="truncate font-medium">{c.name}</span>
                  <span className={`shrink-0 text-small ${c.state === "no_picture" ? "text-stuck" : "text-soft"}`}>{says[c.state]}</span>
                </span>
              </button>
            </li>
          ))}
        </ul>
      </main>
    </div>
  );
}

/** The papers of the site, and the way to sign them. */
function Papers({ site }: { site: string }) {
  const versions = useHandoverVersions(site).data ?? [];
  const [signing, setSigning] = useState(false);
  const newest = versions[0];
  if (!newest) return null;
  return (
    <section aria-label="Papers" className="mb-6 flex flex-wrap items-center gap-3 border-b pb-4">
      <span className="grow">
        <a className="underline underline-offset-2" href={packFile(site, newest.id, "handover.pdf")} target="_blank" rel="noreferrer">
          Handover papers, version {newest.number}
        </a>{" "}
        <span className="text-small text-soft">{new Date(newest.at).toLocaleDateString()}</span>
      </span>
      {newest.sign_off ? (
        <span className="text-small text-open">
          ✓ signed by {newest.sign_off.name}, {new Date(newest.sign_off.at).toLocaleDateString()}
        </span>
      ) : (
        <Button look="next" onClick={() => setSigning(true)}>
          Sign them
        </Button>
      )}
      {signing && <SignSheet site={site} version={newest} onClose={() => setSigning(false)} />}
    </section>
  );
}

function Large({ camera, onClose }: { camera: Camera; onClose: () => void }) {
  const [role, setRole] = useState(camera.roles[0]!);
  return (
    <section aria-label={`${camera.name}, live`} className="mb-6">
      <div className="mb-2 flex items-center gap-3">
        <h2 className="grow truncate text-lg font-semibold">{camera.name}</h2>
        {camera.roles.length > 1 && (
          <Choice
            label="Stream"
            value={role}
            onChange={setRole}
            options={camera.roles.map((r) => [r, r === "main" ? "Large" : r === "sub" ? "Small" : "Third"] as const)}
          />
        )}
        <Button onClick={onClose}>Close</Button>
      </div>
      <LivePicture key={role} device={camera.id} role={role} name={camera.name} className="aspect-video w-full" />
    </section>
  );
}
