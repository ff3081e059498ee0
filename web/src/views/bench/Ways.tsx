import type { Device } from "@/api/client";
import { bitrate, wayWords } from "@/parts/measures";

/** Of a camera that offers its picture in more than one way: which target takes which, and what they cost together. */
export function Ways({ device: d }: { device: Device }) {
  const all = d.ways;
  if (!all) return null;
  return (
    <section aria-label="Ways out of this camera" className="border-t px-4 py-3 text-small">
      <table className="w-full">
        <thead>
          <tr className="text-left text-soft">
            <th className="pb-1 font-normal">Ways out of this camera</th>
            <th className="pb-1 pl-3 font-normal">taken by</th>
            <th className="pb-1 pl-3 text-right font-normal">on its cable</th>
          </tr>
        </thead>
        <tbody>
          {all.ways.map((w) => (
            <tr key={w.role} className="align-baseline">
              <td className="py-0.5">
                {w.role} <span className="text-soft">{wayWords(w.how) || "not played yet"}</span>
              </td>
              <td className="py-0.5 pl-3">{w.targets.join(", ") || (w.always ? "nobody; it is sent all the same" : "nobody")}</td>
              <td className="mono py-0.5 pl-3 text-right whitespace-nowrap">{w.flow_kbps ? bitrate(w.flow_kbps) : "–"}</td>
            </tr>
          ))}
        </tbody>
        <tfoot>
          <tr className="border-t">
            <td className="pt-1" colSpan={2}>
              together
            </td>
            <td className="mono pt-1 pl-3 text-right whitespace-nowrap">{bitrate(all.kbps)}</td>
          </tr>
        </tfoot>
      </table>
    </section>
  );
}
