import type { Handover, ReadyFinding } from "@/api/client";

/** Whether a site is ready, in one sentence. */
export function readyWords(v: Pick<Handover, "ready" | "findings" | "progress" | "checklist">): string {
  if (v.progress.length === 0) return "There is nothing to hand over yet: sweep the site first.";
  if (v.ready) return "Ready: nothing is open.";
  const findings = v.findings.filter((f) => f.things.length > 0).length;
  const items = v.checklist.items.filter((i) => !i.done).length;
  const parts = [
    findings > 0 && (findings === 1 ? "1 finding to mend or to waive" : `${findings} findings to mend or to waive`),
    items > 0 && (items === 1 ? "1 item of the checklist to do" : `${items} items of the checklist to do`),
  ].filter(Boolean);
  return `Not ready: ${parts.join(", ")}.`;
}

/** What the button of a finding says. */
export const mendWords: Record<NonNullable<ReadyFinding["mend"]>, string> = {
  claim: "Give new passwords",
  clock: "Set the clocks",
  stream_user: "Make stream users",
  open: "Open latches",
  name: "Give names",
  place: "Mark on the plan",
  agree: "Agree on the state of now",
  watch: "Watch the site",
  outside: "Change the ports",
  drift: "Look at the drift",
  target: "Look at the target",
};

/** What a cause is called where many stand side by side. */
export const causeWords: Record<ReadyFinding["cause"], string> = {
  factory_password: "factory password",
  service_outside: "reachable from outside",
  open_stream: "plays for anybody",
  readable_sign_in: "readable sign-in",
  admin_given: "administrator’s sign-in given",
  one_sign_in: "one sign-in for all",
  unfinished: "not finished",
  drifted: "not as agreed",
  target_silent: "does not answer",
  clock_wrong: "clock wrong",
  certificate_ends: "certificate ends",
  firmware_differs: "older firmware",
  no_name: "no name",
  no_place: "on no plan",
  not_agreed: "nothing agreed",
  not_watched: "not watched",
};
