import { Check, CircleSlash, KeyRound, LockOpen, Minus, X } from "lucide-react";
import type { Device } from "@/api/client";

const looks: Record<string, { icon: typeof Check; text: string; tone: string }> = {
  opens: { icon: Check, text: "opens", tone: "text-open" },
  anyone: { icon: LockOpen, text: "no sign-in wanted", tone: "text-soft" },
  refused: { icon: X, text: "refused", tone: "text-stuck" },
  locked: { icon: KeyRound, text: "locked, waiting", tone: "text-stuck" },
  off: { icon: CircleSlash, text: "not there", tone: "text-soft" },
  unknown: { icon: Minus, text: "not asked yet", tone: "text-soft" },
};

/** What the sign-ins open, service by service: which one, whose it is, and what it may do. */
export function SignInGrid({ device: d }: { device: Device }) {
  if (!d.grid || d.grid.length === 0) return null;
  return (
    <section className="border-t px-4 py-3" aria-label="What the sign-ins open">
      <table className="w-full text-small">
        <thead>
          <tr className="text-left text-soft">
            <th className="pb-1 font-normal">Service</th>
            <th className="pb-1 font-normal">Sign-in</th>
            <th className="pb-1 font-normal">Level</th>
            <th className="pb-1 text-right font-normal whitespace-nowrap">Taken as</th>
          </tr>
        </thead>
        <tbody>
          {d.grid.map((r) => {
            const look = looks[r.state]!;
            return (
              <tr key={r.service} data-grid={r.service} data-state={r.state} className="align-top" title={r.note}>
                <td className="py-0.5 pr-2 whitespace-nowrap">
                  <look.icon size={13} className={`mr-1.5 inline-block ${look.tone}`} aria-hidden />
                  {r.service}
                </td>
                {r.state === "opens" ? (
                  <>
                    <td className="py-0.5 pr-2">
                      {r.sign_in} <span className="text-soft">({r.whose})</span>
                    </td>
                    <td className="py-0.5 pr-2">{r.level}</td>
                    <td className="py-0.5 text-right [overflow-wrap:anywhere] text-soft">{r.scheme}</td>
                  </>
                ) : (
                  <td colSpan={3} className={`py-0.5 ${look.tone}`}>
                    {look.text}
                  </td>
                )}
              </tr>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}
