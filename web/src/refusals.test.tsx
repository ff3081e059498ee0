// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";
import { afterEach, expect, test, vi } from "vitest";
import type {
  CastView,
  Device,
  DeviceCommand,
  Preset,
  Relay,
  Site,
  Target,
  Cause,
  Handover,
  PairedWorker,
  ReadyFinding,
  Stream,
} from "@/api/client";
import { SignInSheet } from "@/forms/SignInSheet";
import { SiteSheet } from "@/forms/SiteSheet";
import { StreamUserSheet } from "@/forms/StreamUserSheet";
import { TargetAgreeSheet } from "@/forms/TargetAgreeSheet";
import { StreamsPreview } from "@/parts/StreamsPreview";
import { AgreedSheet } from "@/views/agreed/AgreedSheet";
import { AcceptSheet } from "@/views/drift/AcceptSheet";
import { RepairSheet } from "@/views/drift/RepairSheet";
import { ReplaceSheet } from "@/views/drift/ReplaceSheet";
import { RoundsSheet } from "@/views/drift/RoundsSheet";
import { TellSheet } from "@/views/drift/TellSheet";
import { AddressSheet } from "@/views/lineup/AddressSheet";
import { AgreeSheet } from "@/views/lineup/AgreeSheet";
import { NameSheet } from "@/views/lineup/NameSheet";
import { ClaimSheet } from "@/views/lineup/ClaimSheet";
import { GroupSheet } from "@/views/multicast/GroupSheet";
import { EntrySheet } from "@/views/patch/EntrySheet";
import { RelayOfferSheet } from "@/views/patch/RelayOfferSheet";
import { TargetSheet } from "@/views/patch/TargetSheet";
import { CommandSheet } from "@/views/bench/CommandSheet";
import { PageSheet } from "@/views/bench/PageSheet";
import { PushSheet } from "@/views/bench/PushSheet";
import { RelaySheet } from "@/views/bench/RelaySheet";
import { BookSheet } from "@/views/paths/BookSheet";
import { LearnSheet } from "@/views/paths/LearnSheet";
import { CodeSheet } from "@/views/people/CodeSheet";
import { PasskeySheet } from "@/views/people/PasskeySheet";
import { PersonSheet } from "@/views/people/PersonSheet";
import { TokenSheet } from "@/views/people/TokenSheet";
import { ChecklistSheet } from "@/views/handover/ChecklistSheet";
import { FirmSheet } from "@/views/handover/FirmSheet";
import { PackSheet } from "@/views/handover/PackSheet";
import { WaiveSheet } from "@/views/handover/WaiveSheet";
import { OpenPackSheet } from "@/views/sites/OpenPackSheet";
import { SignSheet } from "@/forms/SignSheet";
import { ListSheet } from "@/views/find/ListSheet";
import { KeepingSheet } from "@/views/record/KeepingSheet";
import { PasteSheet } from "@/views/site/PasteSheet";
import { WeekSheet } from "@/views/patch/WeekSheet";
import { AddPlanSheet } from "@/views/plan/AddPlanSheet";
import { PairSheet } from "@/views/server/PairSheet";
import { SitesSheet } from "@/views/server/SitesSheet";
import { PlanSheet } from "@/views/streams/PlanSheet";
import { PresetsSheet } from "@/views/streams/PresetsSheet";
import { TargetsSheet } from "@/views/streams/TargetsSheet";

const refusal = "Clock is being set by somebody else.";

// Whatever is asked is answered; whatever would change something is refused. The client takes fetch when it is loaded.
vi.hoisted(() => {
  const json = (body: unknown, status = 200) =>
    new Response(JSON.stringify(body), {
      status,
      headers: { "Content-Type": status < 300 ? "application/json" : "application/problem+json" },
    });
  const changes = [{ stream: "main", field: "fps", from: "25", to: "12" }];
  const answers: Record<string, unknown> = {
    "/api/devices/d1/commands/try": { read: "GET /lamp", first: [], requests: ["POST /lamp"] },
    "GET /api/session": { name: "Olive", rights: ["look", "see", "inspect", "work", "reveal", "arrange"] },
    "/api/sites/s1/address-list/columns": { columns: [{ is: "name", heading: "name", samples: ["Clock"] }], rows: 1, warnings: [] },
    "/api/packs": { id: "p1", name: "Tarn Ferry", ranges: ["192.0.2.0/24"], targets: [], books: [], warnings: [] },
    "GET /api/keeping": { set: {}, holds: { exchanges: 30, repeats: 30, minutes: 7, quarters: 92, hours: 1830 } },
    "/api/password-strength": { level: 4, says: "Good." },
    "/api/sites/s1/address-plan": { assignments: [{ device: "d1", name: "Clock", old: "192.0.2.7", new: "192.0.2.101", host: "clock" }] },
    "/api/sites/s1/preview": {
      rows: [{ device: "d1", preview: { streams: [{ role: "main", changes, refused: [] }], warnings: [] }, targets: [] }],
      changed: 1,
    },
  };
  const groups = { lines: [{ device: "d1", role: "main", name: "Clock", old: "none", new: "239.255.0.1:50000, TTL 4" }] };
  vi.stubGlobal("fetch", async (r: Request) => {
    const url = new URL(r.url);
    if (r.method === "GET") return json(answers[`GET ${url.pathname}`] ?? []);
    if (answers[url.pathname]) return json(answers[url.pathname]);
    if (url.searchParams.get("try")) return json({ left: [] });
    if (url.pathname.endsWith("/group-plans") && !(await r.clone().json()).send) return json(groups);
    return json({ status: 409, cause: "busy", detail: "Clock is being set by somebody else.", fix: "Wait for it." }, 409);
  });
  vi.stubGlobal(
    "ResizeObserver",
    class {
      observe() {}
      unobserve() {}
      disconnect() {}
    },
  );
});

afterEach(cleanup);

const device = { id: "d1", name: "Clock", address: "192.0.2.7", next: { wanted: {} }, streams: [], placements: [] } as unknown as Device;
const site = { id: "s1", name: "Works", ranges: ["192.0.2.0/24"], network: { pool: "192.0.2.101-192.0.2.199", bits: 24 } } as Site;
const target = { id: "t1", name: "Vault", hands: [], wants: { secret: "stream_key", at: "http://192.0.2.9" } } as unknown as Target;
const hub = { id: "t2", name: "Hearth", kind: "hub", is: "home hub" } as unknown as Target;
const preset = { name: "Own", book: "Own presets", book_id: "b1", plan: {}, streams: {} } as Preset;
const lamp = {
  name: "Lamp",
  does: "Sets the lamp.",
  values: [{ name: "way", one_of: ["on", "off"] }],
  read: { path: "/lamp" },
  book: "Own",
};
const nothing = () => {};

const type = (label: string, value: string) => fireEvent.change(screen.getByLabelText(label), { target: { value } });
const choose = (label: string) =>
  fireEvent.change(screen.getByLabelText(label), { target: { files: [new File(["name: x"], "book.yaml")] } });

/** Every sheet that changes something: how it is filled in, and its button; without one it sends by itself. */
const sheets: { name: string; sheet: ReactNode; fill?: () => void; button?: string | RegExp }[] = [
  { name: "AddressSheet", sheet: <AddressSheet site={site} devices={[device]} open onOpenChange={nothing} />, button: "Send 1 address" },
  { name: "AgreeSheet", sheet: <AgreeSheet site="s1" devices={[device]} onClose={nothing} />, button: "Agree and go on" },
  {
    name: "ClaimSheet",
    sheet: <ClaimSheet site="s1" devices={[device]} open onOpenChange={nothing} />,
    fill: () => type("Password", "a long password"),
    button: "Save to keyring and claim",
  },
  {
    name: "GroupSheet",
    sheet: <GroupSheet site="s1" streams={[{ device: "d1", role: "main" } as CastView]} onClose={nothing} />,
    button: /^Set 1 group/,
  },
  {
    name: "TargetSheet",
    sheet: <TargetSheet site="s1" open onOpenChange={nothing} targets={[]} />,
    fill: () => fireEvent.change(screen.getByPlaceholderText(/^http/), { target: { value: "http://192.0.2.9" } }),
    button: "Add it",
  },
  {
    name: "BookSheet",
    sheet: <BookSheet open onOpenChange={nothing} />,
    fill: () => fireEvent.change(screen.getAllByRole("textbox")[0]!, { target: { value: "name: x" } }),
    button: "Add to the path book",
  },
  {
    name: "CommandSheet",
    sheet: <CommandSheet site="s1" device={device} devices={[device]} command={lamp as unknown as DeviceCommand} onClose={nothing} />,
    button: "Send it",
  },
  {
    name: "AgreedSheet",
    sheet: <AgreedSheet site="s1" devices={[]} onClose={nothing} onTaken={nothing} />,
    button: "Agree",
  },
  {
    name: "AcceptSheet",
    sheet: <AcceptSheet site="s1" finding={{ headline: "x", ids: ["d1"] } as unknown as Cause} onClose={nothing} />,
    fill: () => type("Why", "on purpose"),
    button: "Accept",
  },
  {
    name: "WaiveSheet",
    sheet: (
      <WaiveSheet site="s1" finding={{ title: "x", things: [{ id: "d1", title: "Clock" }] } as unknown as ReadyFinding} onClose={nothing} />
    ),
    fill: () => type("Why it is handed over like that", "later"),
    button: "Waive",
  },
  {
    name: "ChecklistSheet",
    sheet: <ChecklistSheet site="s1" list={{ name: "x", items: [], yaml: "name: x", own: false, rules: [] }} onClose={nothing} />,
    button: "Keep it",
  },
  {
    name: "PackSheet",
    sheet: (
      <PackSheet
        site="s1"
        view={{ ready: true, versions: [], label_sheets: [], languages: [{ tag: "en", name: "English" }] } as unknown as Handover}
        onClose={nothing}
      />
    ),
    button: "Make it",
  },
  {
    name: "FirmSheet",
    sheet: <FirmSheet site="s1" firm={{ name: "Signals", has_mark: false, checklist: "" }} onClose={nothing} />,
    button: "Keep it",
  },
  {
    name: "SignSheet",
    sheet: <SignSheet site="s1" version={{ id: "v1", number: 1 }} onClose={nothing} />,
    fill: () => {
      type("Your name", "Ada Marsh");
      const field = screen.getByLabelText("Field for the signature");
      Object.assign(field, { setPointerCapture: () => {} });
      fireEvent.pointerDown(field, { clientX: 1, clientY: 1 });
    },
    button: "Sign",
  },
  {
    name: "OpenPackSheet",
    sheet: <OpenPackSheet onClose={nothing} onOpened={nothing} />,
    fill: () => choose("Handover pack"),
    button: "Make the site",
  },
  {
    name: "ListSheet",
    sheet: <ListSheet site="s1" file={new File(["name,address"], "list.csv")} onClose={nothing} onBrought={nothing} />,
    button: "Expect them",
  },
  {
    name: "RelaySheet",
    sheet: <RelaySheet site="s1" device={device} stream={{ role: "main" } as Stream} onClose={nothing} />,
    fill: () => type("Who takes it", "Vault"),
    button: "Serve it on",
  },
  {
    name: "PairSheet",
    sheet: <PairSheet onClose={nothing} />,
    fill: () => {
      type("Code that it shows", "K7QM-2P4X");
      type("Where it stands", "Viaduct cabinet");
    },
    button: "Pair it",
  },
  {
    name: "SitesSheet",
    sheet: (
      <SitesSheet
        worker={{ id: "w1", name: "Viaduct cabinet", sites: ["s1"], shared: false } as unknown as PairedWorker}
        onClose={nothing}
      />
    ),
    fill: () => {},
    button: "Keep",
  },
  {
    name: "PushSheet",
    sheet: <PushSheet site="s1" device={device} stream={{ role: "main" } as Stream} onClose={nothing} />,
    fill: () => {
      type("Platform", "Beacon Line");
      type("Ingest address, without the stream key", "rtmps://ingest.example/live");
    },
    button: "Send it",
  },
  {
    name: "PageSheet",
    sheet: <PageSheet site="s1" relay={{ id: "r1", path: "clock/main" } as Relay} onClose={nothing} />,
    button: "Make the address",
  },
  {
    name: "RelayOfferSheet",
    sheet: (
      <RelayOfferSheet
        site="s1"
        device={device}
        target={{ id: "t1", name: "Door panel" } as Target}
        offer={{
          role: "main",
          words: "MJPEG",
          form: { codec: "MJPEG" },
          at: "192.0.2.5:8554",
          cores: 0.1,
          known: true,
          budget: 1,
          free: 1,
        }}
        onClose={nothing}
      />
    ),
    button: "Serve it on and place it",
  },
  { name: "KeepingSheet", sheet: <KeepingSheet onClose={nothing} />, button: "Save" },
  {
    name: "RepairSheet",
    sheet: <RepairSheet site="s1" finding={{ repair: "clock", ids: ["d1"], drifts: [] } as unknown as Cause} onClose={nothing} />,
    button: "Set the clock",
  },
  {
    name: "ReplaceSheet",
    sheet: (
      <ReplaceSheet
        site="s1"
        devices={[{ ...device, id: "d2", kind: "camera", placements: [] }]}
        old={{ device: "d1", title: "Clock" } as Cause["drifts"][number]}
        onClose={nothing}
      />
    ),
    button: "Put it in place",
  },
  {
    name: "RoundsSheet",
    sheet: <RoundsSheet site="s1" rule={{ on: false }} onClose={nothing} />,
    button: "Watch",
  },
  {
    name: "TellSheet",
    sheet: <TellSheet site="s1" messages={[]} onClose={nothing} />,
    fill: () => {
      type("Name", "Duty");
      type("To", "duty@example.org");
    },
    button: "Save",
  },
  {
    name: "LearnSheet",
    sheet: <LearnSheet onClose={nothing} />,
    fill: () => {
      for (const label of ["Name", "What it does", "Maker, with * and ?", "First request", "Second request", "Path of that page"])
        type(label, "x");
    },
    button: "Read them",
  },
  {
    name: "PasteSheet",
    sheet: <PasteSheet site="s1" open onOpenChange={nothing} />,
    fill: () => fireEvent.change(screen.getAllByRole("textbox")[0]!, { target: { value: "rtsp://192.0.2.7/main" } }),
  },
  {
    name: "PlanSheet",
    sheet: <PlanSheet site="s1" open onOpenChange={nothing} picked={[device]} presets={[]} />,
    fill: () => fireEvent.change(screen.getAllByRole("textbox")[0]!, { target: { value: "h264" } }),
    button: "Keep the plan",
  },
  {
    name: "PresetsSheet",
    sheet: <PresetsSheet open onOpenChange={nothing} presets={[preset]} />,
    fill: () => choose("Preset book file"),
  },
  {
    name: "TargetsSheet",
    sheet: <TargetsSheet site="s1" open onOpenChange={nothing} />,
    fill: () => choose("Intake book file"),
  },
  {
    name: "SignInSheet",
    sheet: <SignInSheet open onOpenChange={nothing} />,
    fill: () => type("User name", "fitter"),
    button: "Add to keyring",
  },
  {
    name: "SiteSheet",
    sheet: <SiteSheet open onOpenChange={nothing} onDone={nothing} />,
    fill: () => {
      type("Name", "Works");
      type("Authorised ranges", "192.0.2.0/24");
    },
    button: "Make the site",
  },
  {
    name: "PersonSheet",
    sheet: <PersonSheet onClose={nothing} onMade={nothing} />,
    fill: () => type("Name", "Ida"),
    button: "Make the link",
  },
  {
    name: "TokenSheet",
    sheet: <TokenSheet onClose={nothing} />,
    fill: () => type("Name", "Nightly"),
    button: "Make the token",
  },
  {
    name: "CodeSheet",
    sheet: <CodeSheet onClose={nothing} onAdded={nothing} />,
    fill: () => type("Your password", "a long password"),
    button: "Go on",
  },
  {
    name: "PasskeySheet",
    sheet: <PasskeySheet onClose={nothing} onAdded={nothing} />,
    fill: () => type("Your password", "a long password"),
    button: "Add a passkey",
  },
  {
    name: "NameSheet",
    sheet: <NameSheet site="s1" devices={[device]} onClose={nothing} />,
    fill: () => type("Name of Clock at 192.0.2.7", "Platform clock"),
    button: "Name 1 camera",
  },
  {
    name: "EntrySheet",
    sheet: (
      <EntrySheet
        site="s1"
        row={{ key: "1", kind: "slot", target: hub, device: { ...device, name: "Yard" }, y: 0, h: 1 }}
        target={hub}
        devices={[{ ...device, kind: "camera" }]}
        targets={[hub]}
        onClose={nothing}
      />
    ),
    button: "Place it",
  },
  {
    name: "WeekSheet",
    sheet: <WeekSheet site="s1" target="t1" slot={{ token: "1", name: "Clock" }} others={[]} onClose={nothing} />,
    button: "Set the week",
  },
  {
    name: "AddPlanSheet",
    sheet: <AddPlanSheet site="s1" onClose={nothing} />,
    fill: () => {
      type("Name", "Ground floor");
      choose("Site plan file");
    },
    button: "Bring it",
  },
  { name: "StreamUserSheet", sheet: <StreamUserSheet site="s1" devices={[device]} onClose={nothing} />, button: "Make it" },
  {
    name: "TargetAgreeSheet",
    sheet: <TargetAgreeSheet site="s1" target={target} devices={[device]} onClose={nothing} />,
    button: "Agree and go on",
  },
  {
    name: "StreamsPreview",
    sheet: <StreamsPreview site="s1" sending={{ devices: ["d1"], plans: {} }} close={nothing} devices={[device]} />,
    button: /^Set and measure 1/,
  },
];

test.each(sheets)("$name says a refusal beside its button", async ({ sheet, fill, button }) => {
  render(
    <MemoryRouter>
      <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>{sheet}</QueryClientProvider>
    </MemoryRouter>,
  );
  fill?.();
  if (button) {
    const send = await screen.findByRole<HTMLButtonElement>("button", { name: button });
    await waitFor(() => expect(send.disabled).toBe(false));
    fireEvent.click(send);
  }
  const alert = await screen.findByRole("alert");
  expect(alert.textContent).toContain(refusal);
  const foot = alert.parentElement!;
  if (button) expect(foot.contains(screen.getByRole("button", { name: button }))).toBe(true);
  else expect(foot.querySelector("button, input, label")).not.toBeNull();
});

test("every sheet is refused here", () => {
  const files = Object.keys(import.meta.glob("./**/*Sheet.tsx")).map((path) => path.replace(/^.*\/|\.tsx$/g, ""));
  // The frame of all sheets, that of those that ask for a password, and three that change nothing.
  const changing = files.filter((name) => !["Sheet", "PasswordSheet", "ChangesSheet", "QrSheet", "LinkSheet", "CodesSheet"].includes(name));
  expect(sheets.map((s) => s.name)).toEqual(expect.arrayContaining(changing));
});
