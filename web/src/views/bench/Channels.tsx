import { ExternalLink } from "lucide-react";
import { Link } from "react-router";
import type { Device } from "@/api/client";
import { stillOf } from "@/parts/measures";
import { Still } from "@/parts/Still";
import { useFrame } from "@/parts/useFrame";

/** What a recorder sends on: the cameras on its own switch, each led to. */
export function Channels({ recorder }: { recorder: Device }) {
  const { site, devices } = useFrame();
  return (
    <section className="border-t px-4 py-3" aria-label="Channels">
      <h3 className="mb-1 text-small text-soft">Channels of its own, reached through it</h3>
      <ul>
        {recorder.channels!.map((c) => {
          const camera =
            devices.find((x) => x.via?.recorder === recorder.id && x.via.channel === c.number) ??
            devices.find((x) => !x.via && x.address === c.camera);
          return (
            <li key={c.number} className="flex items-center gap-2 py-1" data-channel={c.number}>
              <span className="num w-5 text-right text-soft">{c.number}</span>
              {camera && <Still src={stillOf(camera)} name={camera.name} className="h-7 w-12" />}
              <span className="min-w-0 grow">
                {camera ? (
                  <Link to={`/sites/${site.id}?device=${camera.id}`} className="underline decoration-1 underline-offset-2">
                    {camera.name}
                  </Link>
                ) : (
                  c.name || "no name"
                )}
                <span className="block text-small leading-4 text-soft">
                  {c.camera && <span className="mono">{c.camera}</span>}
                  {c.place && ` ${c.place}`}
                </span>
              </span>
              {c.page && (
                <a
                  href={c.page}
                  target="_blank"
                  rel="noreferrer"
                  aria-label={`Page of ${c.name}, through the recorder`}
                  title="Its page, through the recorder"
                  className="p-1 text-soft hover:text-ink"
                >
                  <ExternalLink size={14} />
                </a>
              )}
            </li>
          );
        })}
      </ul>
    </section>
  );
}
