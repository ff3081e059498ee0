import { ChevronDown, Command as CommandIcon } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { Link, NavLink, Outlet, useLocation, useNavigate, useParams, useSearchParams } from "react-router";
import { Problem, type Device, type Site } from "@/api/client";
import { say, useOpenLatches, useSweep } from "@/api/actions";
import { Preparing } from "@/parts/Preparing";
import { useDevices, useHealth, useHere, useMay, useSite, useSiteEvents, useSites, useTargets } from "@/api/queries";
import { Button } from "@/parts/Button";
import type { Frame } from "@/parts/useFrame";
import { JobStrip } from "./JobStrip";
import { useKeys } from "@/parts/keys";
import { canGoOn } from "@/parts/latches";
import { Mark } from "@/parts/Mark";
import { type Action, Palette } from "@/parts/Palette";
import { setTheme, useTheme } from "@/parts/theme";
import { PasteSheet } from "./PasteSheet";
import { SignInSheet } from "@/forms/SignInSheet";
import { SiteSheet } from "@/forms/SiteSheet";
import { Trouble } from "@/parts/Trouble";
import { AccountLink, SignOutButton, ThemeButton } from "@/parts/PageButtons";

/** The frame of one site: its views along the top, its long work along the bottom. */
export function SiteFrame() {
  const id = useParams().site!;
  const site = useSite(id);
  const devices = useDevices(id);
  const sweep = useSweep(id);
  const open = useOpenLatches(id);
  const go = useNavigate();
  const theme = useTheme();
  const may = useMay();
  const [palette, setPalette] = useState(false);
  const [signIn, setSignIn] = useState<{ why?: string; then?: () => void; device?: Device } | null>(null);
  const [changing, setChanging] = useState(false);
  const [pasting, setPasting] = useState(false);
  const [large, setLarge] = useState<number | null>(null);
  useSiteEvents(id);
  const targets = useTargets(id, palette);

  const startSweep = (confirm = false) =>
    sweep.mutate(confirm, {
      onError: (e) => (e instanceof Problem && e.cause === "too_many_addresses" ? setLarge(e.count) : say(e)),
      onSuccess: () => setLarge(null),
    });
  const views = places.map((v) => `/sites/${id}${v}`);
  useKeys({
    s: () => startSweep(),
    v: () => setPasting(true),
    ...Object.fromEntries([0, 1, 2, 3, 4, 5, 8, 11, 13].map((view, i) => [String(i + 1), () => go(views[view]!)])),
  });

  if (site.error)
    return (
      <div className="mx-auto mt-24 max-w-lg space-y-3 p-4">
        <Trouble error={site.error} />
        <Link to="/" className="underline">
          All sites
        </Link>
      </div>
    );
  if (!site.data || !devices.data) return <div className="p-4">{devices.error && <Trouble error={devices.error} />}</div>;
  const list = devices.data;
  const ready = list.filter((d) => !d.stray && canGoOn(d));
  const frame: Frame = {
    site: site.data,
    devices: list,
    sweep: () => startSweep(),
    addSignIn: (why, then, device) => setSignIn({ why, then, device }),
    changeSite: () => setChanging(true),
    paste: () => setPasting(true),
  };
  const actions: Action[] = [
    ...(may("work") ? [{ name: "Sweep the site", keys: "S", run: () => startSweep() }] : []),
    ...(ready.length > 0 && may("work")
      ? [
          {
            name: `Open latches of all ${ready.length} devices that can go on`,
            run: () => open.mutate({ devices: ready.map((d) => d.id) }),
          },
        ]
      : []),
    ...(may("arrange") ? [{ name: "Add a sign-in", run: () => setSignIn({}) }] : []),
    ...(may("work") ? [{ name: "Paste a stream URL", keys: "V", run: () => setPasting(true) }] : []),
    { name: "Line-up", keys: "1", run: () => go(views[0]!) },
    { name: "Find", keys: "2", run: () => go(views[1]!) },
    { name: "Streams", keys: "3", run: () => go(views[2]!) },
    { name: "Patch", keys: "4", run: () => go(views[3]!) },
    { name: "Site plan: where the cameras hang", keys: "7", run: () => go(views[8]!) },
    { name: "Keyring", keys: "5", run: () => go(views[4]!) },
    { name: "Path book", keys: "6", run: () => go(views[5]!) },
    { name: "Watch: moving pictures", keys: "W", run: () => go(views[6]!) },
    { name: "Multicast: what the groups carry", run: () => go(views[7]!) },
    { name: "From outside: ports for cameras that are looked at elsewhere", run: () => go(views[9]!) },
    { name: "Drift: what is not as agreed, and who is told", keys: "8", run: () => go(views[11]!) },
    { name: "Agreed: what has changed since it was finished", run: () => go(views[10]!) },
    { name: "Handover: is it ready, and the papers", keys: "9", run: () => go(views[13]!) },
    { name: "Time line of the site", run: () => go(views[12]!) },
    { name: "Who did what", run: () => go("/record") },
    ...(may("arrange") ? [{ name: "Change the site’s name or ranges", run: () => setChanging(true) }] : []),
    { name: "Your account", run: () => go("/account") },
    { name: `Change to the ${theme === "day" ? "night" : "day"} theme`, run: () => setTheme(theme === "day" ? "night" : "day") },
    { name: "All sites", run: () => go("/") },
    ...(targets.data ?? []).map((t) => ({ name: `${t.name}, ${t.is}`, run: () => go(`/sites/${id}/targets/${t.id}`) })),
  ];
  return (
    <div className="flex h-full flex-col">
      <header className="flex shrink-0 flex-wrap items-center gap-x-1 border-b bg-sheet pr-2 pl-3 max-sm:pt-1 sm:h-12 sm:pl-4">
        <Link to="/" aria-label="All sites" title="All sites" className="rounded-sm p-1 hover:bg-well">
          <Mark />
        </Link>
        <SiteMenu site={site.data} onChange={() => setChanging(true)} />
        <ViewLinks views={views} />
        <span className="grow" />
        <Others site={id} />
        <Button look="quiet" className="px-2" aria-label="Commands, Ctrl K" title="Commands (Ctrl K)" onClick={() => setPalette(true)}>
          <CommandIcon size={16} />
          <span className="text-small max-lg:hidden">Ctrl K</span>
        </Button>
        <span className="max-sm:hidden">
          <AccountLink />
        </span>
        <span className="max-sm:hidden">
          <ThemeButton />
        </span>
        <span className="max-sm:hidden">
          <SignOutButton />
        </span>
      </header>
      <Warnings site={site.data} error={devices.error} />
      {large !== null && (
        <div role="alert" className="flex items-center gap-3 border-b bg-well px-4 py-2">
          <span className="grow">The site’s ranges hold {large.toLocaleString("en")} addresses. A sweep of them takes hours.</span>
          <Button onClick={() => startSweep(true)}>Sweep them all the same</Button>
          <Button look="quiet" onClick={() => setLarge(null)}>
            Leave it
          </Button>
        </div>
      )}
      <main className="min-h-0 grow">
        <Heading site={site.data?.name} />
        <Outlet context={frame} />
      </main>
      <Preparing />
      <JobStrip site={id} />
      <Palette actions={actions} open={palette} setOpen={setPalette} />
      <SignInSheet
        key={String(!!signIn)}
        site={id}
        open={!!signIn}
        onOpenChange={(o) => !o && setSignIn(null)}
        why={signIn?.why}
        device={signIn?.device}
        onAdded={signIn?.then}
      />
      <PasteSheet site={id} open={pasting} onOpenChange={setPasting} />
      {changing && <SiteSheet open onOpenChange={setChanging} site={site.data} onDone={() => setChanging(false)} />}
    </div>
  );
}

/** Who else looks at the site, in small; those who have the same camera open come first. */
function Others({ site }: { site: string }) {
  const device = useSearchParams()[0].get("device") ?? undefined;
  const others = useHere(site, device);
  if (others.length === 0) return null;
  const same = others.filter((o) => device && o.devices.includes(device));
  const names = (list: { name: string }[]) => list.map((o) => o.name).join(", ");
  return (
    <span data-others className="max-w-64 truncate px-2 text-small text-soft max-sm:hidden" title={`Also here: ${names(others)}`}>
      {same.length > 0 ? `${names(same)} ${same.length === 1 ? "has" : "have"} this camera open too` : `Also here: ${names(others)}`}
    </span>
  );
}

/** The site's views along the top. */
function ViewLinks({ views }: { views: string[] }) {
  const may = useMay();
  return (
    <nav
      className="flex items-stretch overflow-x-auto [scrollbar-width:none] max-sm:order-last max-sm:-ml-2 max-sm:h-10 max-sm:w-full
        sm:ml-6 sm:h-full"
      aria-label="Views"
    >
      {[
        ["Line-up", views[0]],
        ["Find", views[1]],
        ["Streams", views[2]],
        ["Patch", views[3]],
        ["Plan", views[8]],
        ["Outside", views[9]],
        ["Drift", views[11]],
        ["Handover", views[13]],
        ...(may("inspect") ? [["Keyring", views[4]]] : []),
        ["Paths", views[5]],
      ].map(([name, to]) => (
        <NavLink
          key={name}
          to={to!}
          end
          className={({ isActive }) =>
            `flex items-center border-b-2 px-2 whitespace-nowrap sm:px-3
            ${isActive ? "border-ink font-semibold" : "border-transparent text-soft hover:text-ink"}`
          }
        >
          {name}
        </NavLink>
      ))}
    </nav>
  );
}

/** What stands in the way of the whole site: the server, the workers, the disk. */
function Warnings({ site, error }: { site: Site; error: Error | null }) {
  const health = useHealth();
  return (
    <>
      {error && (
        <div role="alert" className="border-b border-l-4 border-b-hair border-l-stuck bg-sheet px-4 py-2">
          {error.message} <span className="text-soft">{error instanceof Problem && error.fix} What is shown may be out of date.</span>
        </div>
      )}
      {!site.reached && (
        <div role="alert" className="border-b border-l-4 border-b-hair border-l-stuck bg-sheet px-4 py-2">
          No worker reaches this site’s network, so work waits.{" "}
          <span className="text-soft">
            Start one on a machine that does: <span className="mono">unlatch worker --site "{site.name}"</span>
          </span>
        </div>
      )}
      {health.data?.low_on_disk && (
        <div role="alert" className="border-b border-l-4 border-b-hair border-l-stuck bg-sheet px-4 py-2">
          The disk of the database is nearly full ({Math.round((health.data.free_bytes ?? 0) / 1e6)} MB left).{" "}
          <span className="text-soft">Free some space: work waits when there is none, and goes on by itself.</span>
        </div>
      )}
    </>
  );
}

function SiteMenu({ site, onChange }: { site: Site; onChange: () => void }) {
  const sites = useSites();
  const may = useMay();
  const go = useNavigate();
  const item = "flex h-8 cursor-pointer items-center rounded-sm px-3 outline-none data-highlighted:bg-well";
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="flex h-8 min-w-0 items-center gap-1 rounded-md px-2 font-semibold hover:bg-well">
        <span className="truncate">{site.name}</span> <ChevronDown size={14} className="shrink-0 text-soft" />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="start" sideOffset={4} className="z-50 min-w-56 rounded-md border bg-sheet p-1 shadow-xl">
          {(sites.data ?? [])
            .filter((s) => s.id !== site.id)
            .map((s) => (
              <DropdownMenu.Item key={s.id} className={item} onSelect={() => go(`/sites/${s.id}`)}>
                {s.name}
              </DropdownMenu.Item>
            ))}
          {(sites.data ?? []).length > 1 && <DropdownMenu.Separator className="my-1 border-t" />}
          {may("arrange") && (
            <DropdownMenu.Item className={item} onSelect={onChange}>
              Change name or ranges
            </DropdownMenu.Item>
          )}
          <DropdownMenu.Item className={item} onSelect={() => go("/")}>
            All sites
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** Where the views of a site are, below the site. */
const places = "|/find|/streams|/patch|/keyring|/paths|/watch|/multicast|/plan|/outside|/agreed|/drift|/timeline|/handover".split("|");

/** The pages that show no heading of their own, by their place below the site. */
const headings: Record<string, string> = {
  "": "Line-up",
  find: "Find",
  watch: "Watch",
  multicast: "Multicast",
  exchange: "Exchange",
  streams: "Streams",
  patch: "Patch",
  plan: "Site plan",
};

/** The heading of such a page, for who does not see it. */
function Heading({ site }: { site?: string }) {
  const page = headings[useLocation().pathname.split("/")[3] ?? ""];
  return page ? <h1 className="sr-only">{site ? `${page} of ${site}` : page}</h1> : null;
}
