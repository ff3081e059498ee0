import { useEndSession } from "@/api/people";
import { useMay, useOwnSessions, useSession } from "@/api/queries";
import { Button } from "@/parts/Button";
import { ago } from "@/parts/measures";
import { PageFoot } from "@/parts/PageFoot";
import { PageHead } from "@/parts/PageHead";
import { Trouble } from "@/parts/Trouble";
import { Connection } from "./Connection";
import { Factors } from "./Factors";
import { PasswordForm } from "./PasswordForm";
import { roleNames } from "./roles";
import { Tokens } from "./Tokens";

/** One's own account: the password, and the browsers in which one is signed in. */
export function Account() {
  const session = useSession().data;
  const may = useMay();
  const sessions = useOwnSessions();
  const end = useEndSession();
  return (
    <div className="flex min-h-full flex-col">
      <PageHead title="Your account" />
      <main className="mx-auto w-full max-w-3xl space-y-8 p-4 sm:p-8">
        <div>
          <h1 className="text-xl font-semibold">{session?.name}</h1>
          {session?.role && <p className="text-soft">{roleNames[session.role as keyof typeof roleNames]}</p>}
        </div>
        {session?.must_add_factor && (
          <p role="alert" className="border-l-4 border-brass bg-well px-3 py-2">
            Your role must have a second factor. Add one here, then you can go on.
          </p>
        )}
        <section>
          <h2 className="mb-2 font-semibold">Where you are signed in</h2>
          <Trouble error={sessions.error} />
          <ul className="border-t">
            {sessions.data?.map((s) => (
              <li key={s.id} className="flex min-h-10 items-center gap-4 border-b py-1">
                <span className="min-w-0 grow truncate">{s.browser || "A browser that does not say what it is"}</span>
                <span className="shrink-0 text-soft">{s.own ? "this one" : `seen ${ago(s.last_seen_at)}`}</span>
                {!s.own && (
                  <Button look="quiet" disabled={end.isPending} onClick={() => end.mutate(s.id)}>
                    Sign out there
                  </Button>
                )}
              </li>
            ))}
          </ul>
        </section>
        {session?.password && <Factors />}
        <Connection />
        {may("look") && !session?.must_add_factor && <Tokens />}
        {session?.password && <PasswordForm />}
      </main>
      <PageFoot />
    </div>
  );
}
