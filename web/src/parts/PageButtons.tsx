import { useQueryClient } from "@tanstack/react-query";
import { LogOut, Moon, Sun, UserRound } from "lucide-react";
import { Link } from "react-router";
import { api } from "@/api/client";
import { useSession } from "@/api/queries";
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

/** Leads to one's own account, and says who is signed in. */
export function AccountLink() {
  const name = useSession().data?.name;
  return (
    <Link
      to="/account"
      aria-label={`Your account: ${name}`}
      title={`Signed in as ${name}`}
      className="grid size-8 place-items-center rounded-sm text-soft hover:bg-well hover:text-ink"
    >
      <UserRound size={16} />
    </Link>
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
