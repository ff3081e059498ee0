import { type Body, useAction } from "./actions";
import { api, must, type Session } from "./client";
import { keys } from "./keys";
import { makePasskey } from "./passkeys";

export const useEnter = (first: boolean, done: (session: Session) => void) =>
  useAction(
    ({ name, password, code }: { name: string; password: string; code: string }) =>
      first
        ? must(api.POST("/api/setup", { body: { name, password, code } }))
        : must(api.POST("/api/session", { body: { name, password } })),
    [[]],
    "quiet",
    done,
  );

/** Finishes a sign-in with a second factor. */
export const useSecond = () =>
  useAction((body: { code?: string; passkey?: unknown }) => must(api.POST("/api/session/second", { body })), [[]], "quiet");

export const useBeginCode = () =>
  useAction((password: string) => must(api.POST("/api/session/factors/code/begin", { body: { password } })), [], "quiet");

export const useAddCode = () =>
  useAction(
    (body: Body<"/api/session/factors/code", "post">) => must(api.POST("/api/session/factors/code", { body })),
    [keys.factors(), keys.session()],
    "quiet",
  );

/** Has the browser make a passkey, and adds it. */
export const useAddPasskey = () =>
  useAction(
    async ({ password, name }: { password: string; name: string }) => {
      const begun = await must(api.POST("/api/session/factors/passkey/begin", { body: { password } }));
      const passkey = await makePasskey(begun.options);
      return must(api.POST("/api/session/factors/passkey", { body: { ceremony: begun.ceremony, name, passkey } }));
    },
    [keys.factors(), keys.session()],
    "quiet",
  );

export const useRemoveFactor = () =>
  useAction(
    ({ factor, password }: { factor: string; password: string }) =>
      must(api.POST("/api/session/factors/{factor}/remove", { params: { path: { factor } }, body: { password } })),
    [keys.factors(), keys.session()],
    "quiet",
  );

export const useNewRecoveryCodes = () =>
  useAction((password: string) => must(api.POST("/api/session/recovery-codes", { body: { password } })), [keys.factors()], "quiet");

export const useMakeToken = () =>
  useAction((body: Body<"/api/tokens", "post">) => must(api.POST("/api/tokens", { body })), [keys.tokens()], "quiet");

export const useRevokeToken = () =>
  useAction((token: string) => must(api.DELETE("/api/tokens/{token}", { params: { path: { token } } })), [keys.tokens()]);

export const useDropFactors = () =>
  useAction((person: string) => must(api.POST("/api/people/{person}/drop-factors", { params: { path: { person } } })), [keys.people()]);

export const useStrictRoles = () =>
  useAction(
    (roles: Body<"/api/people/strict-roles", "put">["roles"]) => must(api.PUT("/api/people/strict-roles", { body: { roles } })),
    [keys.people(), keys.session()],
  );

type Standing = Body<"/api/people/{person}", "put">;

/** Makes a one-time link, and returns its token: it is told once. */
export const useInvite = () =>
  useAction((body: Standing & { name: string }) => must(api.POST("/api/people/links", { body })), [keys.people()], "quiet");

export const useChangePerson = (person: string) =>
  useAction(
    (body: Standing) => must(api.PUT("/api/people/{person}", { params: { path: { person } }, body })),
    [keys.people(), keys.session()],
    "quiet",
  );

export const useRemovePerson = () =>
  useAction((person: string) => must(api.DELETE("/api/people/{person}", { params: { path: { person } } })), [keys.people()]);

export const useResetPerson = () =>
  useAction((person: string) => must(api.POST("/api/people/{person}/reset", { params: { path: { person } } })), [keys.people()]);

export const useWithdrawLink = () =>
  useAction((link: string) => must(api.DELETE("/api/people/links/{link}", { params: { path: { link } } })), [keys.people()]);

export const useTakeLink = (done: () => void) =>
  useAction((body: Body<"/api/link/take", "post">) => must(api.POST("/api/link/take", { body })), [[]], "quiet", done);

export const useChangePassword = (done: () => void) =>
  useAction(
    (body: Body<"/api/session/password", "put">) => must(api.PUT("/api/session/password", { body })),
    [keys.sessions()],
    "quiet",
    done,
  );

export const useEndSession = () =>
  useAction((session: string) => must(api.DELETE("/api/session/all/{session}", { params: { path: { session } } })), [keys.sessions()]);

/** Whether the browser is at the provider to connect an account that is signed in, and not to sign in. Only this tab knows. */
const connecting = "unlatch-connecting";

/** Sends the browser to the provider of single sign-on; with the token of an invitation, the account is made there. */
export const useSignOn = () =>
  useAction(
    (link: string | undefined) => must(api.POST("/api/sign-on/begin", { body: { link } })),
    [],
    "quiet",
    ({ url }) => {
      sessionStorage.removeItem(connecting);
      location.assign(url);
    },
  );

/** Sends the browser to the provider to connect the account that is signed in. */
export const useConnect = () =>
  useAction(
    (password: string) => must(api.POST("/api/session/sign-on/begin", { body: { password } })),
    [],
    "quiet",
    ({ url }) => {
      sessionStorage.setItem(connecting, "yes");
      location.assign(url);
    },
  );

/** Ends a sign-on by what the browser has brought back; where it leads comes back. */
export const useSignedOn = (done: (to: string) => void) =>
  useAction(
    async (body: Body<"/api/sign-on/finish", "post">) => {
      const account = !!sessionStorage.getItem(connecting);
      sessionStorage.removeItem(connecting);
      if (!account) await must(api.POST("/api/sign-on/finish", { body }));
      else await must(api.POST("/api/session/sign-on", { body }));
      return account ? "/account" : "/";
    },
    [[]],
    "quiet",
    done,
  );

export const useDisconnect = () =>
  useAction((password: string) => must(api.POST("/api/session/sign-on/disconnect", { body: { password } })), [keys.session()], "quiet");
