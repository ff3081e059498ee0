import { QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { Toaster } from "sonner";
import { client, useSession } from "./api/queries";
import { Trouble } from "./parts/Trouble";
import { useTheme } from "./parts/theme";
import "./style.css";
import { Find } from "./views/Find";
import { Keyring } from "./views/Keyring";
import { Record } from "./views/Record";
import { PathBook } from "./views/PathBook";
import { LineUp } from "./views/LineUp";
import { SignIn } from "./views/SignIn";
import { SiteFrame } from "./views/SiteFrame";
import { Sites } from "./views/Sites";

function Pages() {
  const session = useSession();
  if (session.isPending) return null;
  if (session.error) return <div className="mx-auto mt-24 max-w-lg p-4"><Trouble error={session.error} /></div>;
  if (!session.data.name) return <SignIn first={session.data.needs_setup} />;
  return (
    <Routes>
      <Route path="/" element={<Sites />} />
      <Route path="/record" element={<Record />} />
      <Route path="/sites/:site" element={<SiteFrame />}>
        <Route index element={<LineUp />} />
        <Route path="find" element={<Find />} />
        <Route path="keyring" element={<Keyring />} />
        <Route path="paths" element={<PathBook />} />
      </Route>
      <Route path="*" element={<Navigate to="/" replace />} />
    </Routes>
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
        <Toaster theme={theme === "night" ? "dark" : "light"} position="bottom-right" offset={56} toastOptions={{ style: { background: "var(--sheet)", color: "var(--ink)", borderColor: "var(--hair)", borderRadius: 3, fontFamily: "inherit" }, descriptionClassName: "!text-soft" }} />
      </Tooltip.Provider>
    </QueryClientProvider>
  );
}

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <App />
  </StrictMode>,
);
