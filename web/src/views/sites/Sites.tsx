import { Plus } from "lucide-react";
import { Fragment, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Site } from "@/api/client";
import { useMay, useSites, useSitesEvents } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Notch } from "@/parts/LatchChain";
import { latchNames } from "@/parts/latches";
import { AccountLink, SignOutButton, ThemeButton } from "@/parts/PageButtons";
import { Mark } from "@/parts/Mark";
import { ago, stillUrl } from "@/parts/measures";
import { type Action, Palette } from "@/parts/Palette";
import { PageFoot } from "@/parts/PageFoot";
import { Preparing } from "@/parts/Preparing";
import { Choice } from "@/parts/Choice";
import { SearchField } from "@/parts/SearchField";
import { OpenPackSheet } from "./OpenPackSheet";
import { inOrder, type SitesOrder } from "./order";
import { SiteSheet } from "@/forms/SiteSheet";
import { Still } from "@/parts/Still";
import { Trouble } from "@/parts/Trouble";
import { AtManySites } from "./AtManySites";
import { FirmwareQuestion } from "./FirmwareQuestion";
import { reachedOf } from "./reached";
import { Unreached } from "./Unreached";
import { Unwell } from "./Unwell";

/** With no more sites than these, all of them are seen at once: nothing needs to be searched or ordered. */
const fewSites = 6;

/** How often it is asked who reaches the sites, in milliseconds: a worker that is away says nothing of it. */
const reachedEvery = 15_000;

/** All sites, each with how far its cameras are, what waits there, and what changed last. */
export function Sites() {
  useSitesEvents();
  const sites = useSites(reachedEvery);
  const [making, setMaking] = useState(false);
  const [opening, setOpening] = useState(false);
  const [over, setOver] = useState(false);
  const [asking, setAsking] = useState(false);
  const [palette, setPalette] = useState(false);
  const go = useNavigate();
  const list = sites.data ?? [];
  const [text, setText] = useState("");
  const [order, setOrder] = useState<SitesOrder>("need");
  const field = useRef<HTMLInputElement>(null);
  const many = list.length > fewSites;
  const shown = many ? inOrder(list, order, text) : list;
  const byCustomer = many && order === "customer";
  const may = useMay();
  const actions: Action[] = [
    ...(may("arrange")
      ? [
          { name: "New site", run: () => setMaking(true) },
          { name: "Open a handover pack", run: () => setOpening(true) },
        ]
      : []),
    ...(may("administer")
      ? [
          { name: "People", run: () => go("/people") },
          { name: "Server", run: () => go("/server") },
        ]
      : []),
    ...(may("see")
      ? [
          { name: "Firmware on all sites", run: () => setAsking(true) },
          { name: "Who did what", run: () => go("/record") },
        ]
      : []),
    { name: "Your account", run: () => go("/account") },
    ...list.map((s) => ({ name: `Go to ${s.name}`, run: () => go(`/sites/${s.id}`) })),
  ];
  return (
    <div className="flex min-h-full flex-col">
      <header className="flex h-12 items-center gap-2 border-b bg-sheet px-4">
        <Mark />
        <span className="font-semibold max-sm:hidden">Unlatch</span>
        <span className="grow" />
        {may("administer") && (
          <Link to="/people" className="px-2 whitespace-nowrap text-soft hover:text-ink max-sm:px-1">
            People
          </Link>
        )}
        {may("administer") && (
          <Link to="/server" className="px-2 whitespace-nowrap text-soft hover:text-ink max-sm:px-1">
            Server
          </Link>
        )}
        {may("see") && (
          <Link to="/record" className="px-2 whitespace-nowrap text-soft hover:text-ink max-sm:px-1">
            Who did what
          </Link>
        )}
        <AccountLink />
        <ThemeButton />
        <SignOutButton />
      </header>
      <main className="mx-auto w-full max-w-5xl p-4 sm:p-8">
        <div className="mb-4 flex flex-wrap items-center justify-between gap-y-2">
          <h1 className="text-xl font-semibold">Sites</h1>
          {list.length > 0 && may("arrange") && (
            <span className="flex flex-wrap gap-2">
              <Button look="quiet" onClick={() => setAsking(true)}>
                Firmware
              </Button>
              {list.length > 1 && may("work") && (
                <Button look="quiet" onClick={() => setOver(true)}>
                  At many sites
                </Button>
              )}
              <Button look="quiet" onClick={() => setOpening(true)}>
                Open a pack
              </Button>
              <Button onClick={() => setMaking(true)}>
                <Plus size={16} /> New site
              </Button>
            </span>
          )}
        </div>
        <Unwell />
        <Trouble error={sites.error} />
        <Unreached sites={list} />
        {sites.data && list.length === 0 && <NoSite onMake={() => setMaking(true)} onOpen={() => setOpening(true)} />}
        {many && (
          <div className="mb-3 flex flex-wrap items-center gap-3">
            <SearchField
              field={field}
              text={text}
              setText={setText}
              label="Search the sites"
              placeholder="Name, customer or range"
              className="sm:w-64"
            />
            <Choice
              label="In order of"
              value={order}
              onChange={setOrder}
              options={[
                ["need", "what waits"],
                ["change", "last change"],
                ["name", "name"],
                ["customer", "customer"],
              ]}
            />
          </div>
        )}
        <ul className="border-t">
          {shown.map((s, i) => (
            <Fragment key={s.id}>
              {byCustomer && (i === 0 || shown[i - 1]!.customer !== s.customer) && (
                <li className="border-b bg-well px-2 py-1.5">
                  <h2 className="font-semibold">{s.customer || "No customer"}</h2>
                </li>
              )}
              <Row site={s} named={!byCustomer} />
            </Fragment>
          ))}
        </ul>
      </main>
      <PageFoot />
      <div className="sticky bottom-0">
        <Preparing />
      </div>
      <SiteSheet open={making} onOpenChange={setMaking} onDone={(id) => go(`/sites/${id}`)} />
      {over && <AtManySites sites={list} onClose={() => setOver(false)} />}
      {asking && <FirmwareQuestion sites={list} onClose={() => setAsking(false)} />}
      {opening && <OpenPackSheet onClose={() => setOpening(false)} onOpened={(id) => go(`/sites/${id}/handover`)} />}
      <Palette actions={actions} open={palette} setOpen={setPalette} />
    </div>
  );
}

/** What stands where no site is: how to make one, for who may. */
function NoSite({ onMake, onOpen }: { onMake: () => void; onOpen: () => void }) {
  const may = useMay();
  if (!may("arrange")) return <p className="border-y py-12 text-center text-soft">No site is given to you yet. An owner can do that.</p>;
  return (
    <div className="border-y py-12 text-center">
      <p className="mb-1 text-lg">No site yet</p>
      <p className="mb-5 text-soft">A site is one network to work on. Name it and say which addresses belong to it.</p>
      <Button look="next" className="h-10 px-5" onClick={onMake}>
        Make the first site
      </Button>
      <p className="mt-4 text-soft">
        Somebody has left you one?{" "}
        <button type="button" className="underline underline-offset-2 hover:text-ink" onClick={onOpen}>
          Open their handover pack
        </button>
      </p>
    </div>
  );
}

/** One site. Its customer's name stands with it where that is not its heading. */
function Row({ site, named }: { site: Site; named: boolean }) {
  const may = useMay();
  if (!may("see"))
    return (
      <li className="border-b">
        <Link to={`/sites/${site.id}`} className="block px-2 py-4 text-lead font-semibold hover:bg-well">
          {site.name}
        </Link>
      </li>
    );
  return <Detailed site={site} named={named} />;
}

function Detailed({ site, named }: { site: Site; named: boolean }) {
  const reached = reachedOf(site);
  const waits = Object.keys(latchNames).filter((n) => site.funnel[n]);
  return (
    <li className="border-b">
      <Link
        to={site.cameras + site.recorders === 0 ? `/sites/${site.id}/find` : `/sites/${site.id}`}
        className="grid grid-cols-[1fr_auto] items-center gap-x-6 gap-y-2 px-2 py-3 hover:bg-well sm:grid-cols-[220px_minmax(0,1fr)_auto]"
      >
        <div>
          <div className="text-lead font-semibold">{site.name}</div>
          {named && site.customer && <div className="truncate text-small text-soft">{site.customer}</div>}
          <div className="mono text-soft">{site.ranges.join(", ")}</div>
          {reached.text && (
            <div
              data-reached={reached.state}
              className={`text-small ${reached.state === "nobody" ? "font-medium text-stuck" : "text-soft"}`}
            >
              {reached.text}
            </div>
          )}
        </div>
        <div className="max-sm:order-last max-sm:col-span-2">
          {site.cameras === 0 ? (
            <span className="inline-flex items-center gap-2 font-medium text-brass-text">
              <svg width="12" height="14" aria-hidden>
                <Notch state="next" />
              </svg>{" "}
              Next: sweep it
            </span>
          ) : (
            <>
              <Progress site={site} />
              <div className="mt-1 flex flex-wrap items-center gap-y-0.5 text-small whitespace-nowrap text-soft">
                {site.done > 0 && <span className="mr-3 whitespace-nowrap">{site.done} all open</span>}
                {waits.map((n) => (
                  <span key={n} className="mr-3 inline-block whitespace-nowrap">
                    {site.funnel[n]} at {latchNames[n]}
                  </span>
                ))}
                {site.can_go_on > 0 && (
                  <span className="mr-3 inline-flex items-center gap-1.5 font-medium whitespace-nowrap text-brass-text">
                    <svg width="12" height="14" aria-hidden>
                      <Notch state="next" />
                    </svg>{" "}
                    {site.can_go_on} can go on
                  </span>
                )}
                {site.stuck > 0 && <span className="mr-3 font-medium text-stuck">{site.stuck} stuck</span>}
                {site.since && site.can_go_on + site.stuck > 0 && <span className="mr-3">the first since {ago(site.since)}</span>}
              </div>
              {site.last_act && (
                <p className="truncate text-small text-soft">
                  {site.last_act.by} {site.last_act.action} {site.last_act.subject}, {ago(site.last_act.at)}
                </p>
              )}
            </>
          )}
        </div>
        <div className="flex items-center gap-1">
          {site.stills.map((id) => (
            <Still key={id} src={stillUrl(id)} name={site.name} className="h-9 w-16 max-sm:hidden" />
          ))}
          <span className="num ml-2 w-24 text-right text-soft">
            {site.cameras} {site.cameras === 1 ? "camera" : "cameras"}
          </span>
        </div>
      </Link>
    </li>
  );
}

/** How far a site's cameras are, as one bar: all open, under way, stuck. */
function Progress({ site }: { site: Site }) {
  const part = (n: number) => ({ width: `${(100 * n) / site.cameras}%` });
  return (
    <div
      className="flex h-2 w-full overflow-hidden rounded-sm bg-well"
      role="img"
      aria-label={`${site.done} of ${site.cameras} cameras have every latch open, ${site.stuck} are stuck`}
    >
      <span className="bg-open" style={part(site.done)} />
      <span className="bg-soft opacity-40" style={part(site.cameras - site.done - site.stuck)} />
      <span className="bg-stuck" style={part(site.stuck)} />
    </div>
  );
}
