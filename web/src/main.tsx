import { QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes, useLocation } from "react-router";
import { Toaster } from "sonner";
import { client, useMay, useSession } from "./api/queries";
import { Boundary } from "./parts/Boundary";
import { Trouble } from "./parts/Trouble";
import { useTheme } from "./parts/theme";
import "./style.css";
import { SignIn } from "./views/signin/SignIn";
import { Sites } from "./views/sites/Sites";

// What is not looked at first is loaded when it is.
const SiteFrame = lazy(() => import("./views/site/SiteFrame").then((m) => ({ default: m.SiteFrame })));
const LineUp = lazy(() => import("./views/lineup/LineUp").then((m) => ({ default: m.LineUp })));
const Find = lazy(() => import("./views/find/Find").then((m) => ({ default: m.Find })));
const Keyring = lazy(() => import("./views/keyring/Keyring").then((m) => ({ default: m.Keyring })));
const PathBook = lazy(() => import("./views/paths/PathBook").then((m) => ({ default: m.PathBook })));
const Streams = lazy(() => import("./views/streams/Streams").then((m) => ({ default: m.Streams })));
const Patch = lazy(() => import("./views/patch/Patch").then((m) => ({ default: m.Patch })));
const SitePlans = lazy(() => import("./views/plan/SitePlans").then((m) => ({ default: m.SitePlans })));
const Drift = lazy(() => import("./views/drift/Drift").then((m) => ({ default: m.Drift })));
const TimeLine = lazy(() => import("./views/drift/TimeLine").then((m) => ({ default: m.TimeLinePage })));
const Agreed = lazy(() => import("./views/agreed/Agreed").then((m) => ({ default: m.Agreed })));
const Handover = lazy(() => import("./views/handover/Handover").then((m) => ({ default: m.Handover })));
const Outside = lazy(() => import("./views/outside/Outside").then((m) => ({ default: m.Outside })));
const Watch = lazy(() => import("./views/watch/Watch").then((m) => ({ default: m.Watch })));
const Multicast = lazy(() => import("./views/multicast/Multicast").then((m) => ({ default: m.Multicast })));
const Exchange = lazy(() => import("./views/exchange/Exchange").then((m) => ({ default: m.Exchange })));
const TargetPage = lazy(() => import("./views/patch/TargetPage").then((m) => ({ default: m.TargetPage })));
const People = lazy(() => import("./views/people/People").then((m) => ({ default: m.People })));
const Account = lazy(() => import("./views/people/Account").then((m) => ({ default: m.Account })));
const Join = lazy(() => import("./views/people/Join").then((m) => ({ default: m.Join })));
const SignOnBack = lazy(() => import("./views/signin/SignOnBack").then((m) => ({ default: m.SignOnBack })));
const Cameras = lazy(() => import("./views/customer/Cameras").then((m) => ({ default: m.Cameras })));
const Server = lazy(() => import("./views/server/Server").then((m) => ({ default: m.Server })));
const Record = lazy(() => import("./views/record/Record").then((m) => ({ default: m.Record })));

function Pages() {
  const session = useSession();
  const may = useMay();
  const { pathname } = useLocation();
  if (pathname === "/join" || pathname === "/sign-on") return <Suspense>{pathname === "/join" ? <Join /> : <SignOnBack />}</Suspense>;
  if (session.isPending) return null;
  if (session.error)
    return (
      <div className="mx-auto mt-24 max-w-lg p-4">
        <Trouble error={session.error} />
      </div>
    );
  if (!session.data.name) return <SignIn first={session.data.needs_setup} provider={session.data.sign_on} />;
  return (
    <Boundary at={pathname}>
      <Suspense
        fallback={
          <p role="status" data-loading className="p-6 text-soft">
            Loading …
          </p>
        }
      >
        <Routes>
          {session.data.must_add_factor && <Route path="*" element={<Account />} />}
          <Route path="/" element={session.data.must_add_factor ? <Account /> : <Sites />} />
          <Route path="/account" element={<Account />} />
          {may("see") && <Route path="/record" element={<Record />} />}
          {may("administer") && <Route path="/people" element={<People />} />}
          {may("administer") && <Route path="/server" element={<Server />} />}
          {may("see") ? (
            <Route path="/sites/:site" element={<SiteFrame />}>
              <Route index element={<LineUp />} />
              <Route path="find" element={<Find />} />
              <Route path="watch" element={<Watch />} />
              <Route path="multicast" element={<Multicast />} />
              <Route path="exchange/:of/:record" element={<Exchange />} />
              <Route path="streams" element={<Streams />} />
              <Route path="patch" element={<Patch />} />
              <Route path="plan" element={<SitePlans />} />
              <Route path="agreed" element={<Agreed />} />
              <Route path="drift" element={<Drift />} />
              <Route path="timeline/:thing?" element={<TimeLine />} />
              <Route path="outside" element={<Outside />} />
              <Route path="handover" element={<Handover />} />
              <Route path="targets/:target" element={<TargetPage />} />
              <Route path="keyring" element={<Keyring />} />
              <Route path="paths" element={<PathBook />} />
            </Route>
          ) : (
            <Route path="/sites/:site/*" element={<Cameras />} />
          )}
          <Route path="*" element={<Navigate to="/" replace />} />
        </Routes>
      </Suspense>
    </Boundary>
  );
}

function App() {
  const theme = useTheme();
  return (
    <QueryClientProvider client={client}>
      <Tooltip.Provider delayDuration={250}>
        <BrowserRouter>
          <Pages />
        </BrowserRouter>
        <Toaster
          theme={theme === "night" ? "dark" : "light"}
          position="bottom-right"
          offset={56}
          toastOptions={{
            style: { background: "var(--sheet)", color: "var(--ink)", borderColor: "var(--hair)", borderRadius: 3, fontFamily: "inherit" },
            descriptionClassName: "!text-soft",
          }}
        />
      </Tooltip.Provider>
    </QueryClientProvider>
  );
}

// A page that the browser brings back as it was hears no events any more: it begins anew.
window.addEventListener("pageshow", (e) => e.persisted && location.reload());

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <App />
  </StrictMode>,
);
