import type { ReactNode } from "react";
import { Link } from "react-router";
import { Mark } from "./Mark";
import { AccountLink, SignOutButton, ThemeButton } from "./PageButtons";

/** The head of a page that belongs to no site. */
export function PageHead({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <header className="flex h-12 items-center gap-2 border-b bg-sheet px-4">
      <Link to="/" aria-label="All sites" title="All sites" className="rounded-sm p-1 hover:bg-well">
        <Mark />
      </Link>
      <span className="font-semibold">{title}</span>
      <span className="grow" />
      {children}
      <AccountLink />
      <ThemeButton />
      <SignOutButton />
    </header>
  );
}
