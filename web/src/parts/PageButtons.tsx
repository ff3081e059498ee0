import { useQueryClient } from "@tanstack/react-query";
import { LogOut, Moon, Sun } from "lucide-react";
import { api } from "@/api/client";
import { Button } from "./Button";
import { setTheme, useTheme } from "./theme";

/** Changes between the day and the night theme. */
export function ThemeButton() {
  const theme = useTheme();
  const other = theme === "day" ? "night" : "day";
  return (
    <Button
      look="quiet"
      className="px-2"
      aria-label={`Change to the ${other} theme`}
      title={`Change to the ${other} theme`}
      onClick={() => setTheme(other)}
    >
      {theme === "day" ? <Moon size={16} /> : <Sun size={16} />}
    </Button>
  );
}

/** Ends the session and shows the sign-in. */
export function SignOutButton() {
  const q = useQueryClient();
  return (
    <Button
      look="quiet"
      className="px-2"
      aria-label="Sign out"
      title="Sign out"
      onClick={() => api.DELETE("/api/session").finally(() => q.resetQueries())}
    >
      <LogOut size={16} />
    </Button>
  );
}
