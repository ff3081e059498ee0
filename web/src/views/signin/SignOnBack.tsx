import { useEffect } from "react";
import { Link, useNavigate } from "react-router";
import { useSignedOn } from "@/api/people";
import { Mark } from "@/parts/Mark";
import { Trouble } from "@/parts/Trouble";

/** What the provider has sent back with the browser (RFC 6749 §4.1.2). It leaves the address at once, so that no history keeps it. */
function takeAnswer() {
  const said = new URLSearchParams(location.search);
  history.replaceState(null, "", location.pathname);
  return { code: said.get("code") ?? "", state: said.get("state") ?? "", refused: said.has("error") };
}

// Once a page load, and not when the component is made: React may make it twice, and the address says it once.
const answer = takeAnswer();

/** Where the provider of single sign-on sends the browser back to. */
export function SignOnBack() {
  const go = useNavigate();
  const { mutate, error } = useSignedOn((to) => go(to, { replace: true }));
  const usable = !!answer.code && !!answer.state;
  useEffect(() => {
    if (usable) mutate({ code: answer.code, state: answer.state });
  }, [usable, mutate]);
  return (
    <main className="grid min-h-full place-items-center p-4">
      <div className="w-full max-w-[380px] space-y-4">
        <div className="flex items-center gap-3">
          <Mark size={40} />
          <h1 className="text-2xl leading-7 font-semibold">{error || !usable ? "Not signed in" : "Signing in …"}</h1>
        </div>
        <Trouble error={error} />
        {!usable && (
          <p>{answer.refused ? "The provider has not signed you in." : "There is nothing to sign in with: begin on the page Sign in."}</p>
        )}
        {(error || !usable) && (
          <Link to="/" replace className="inline-block underline">
            Back to signing in
          </Link>
        )}
      </div>
    </main>
  );
}
