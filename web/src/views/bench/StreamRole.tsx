import { toast } from "sonner";
import { useGiven, useRoles } from "@/api/actions";
import type { Device, Stream } from "@/api/client";
import { Button } from "@/parts/Button";
import { Choice } from "@/parts/Choice";
import { useFrame } from "@/parts/useFrame";

const roles = ["main", "sub", "third"] as const;
type Role = (typeof roles)[number];

/** What a person uses a stream as. The stream that had the role before takes this one's. */
export function StreamRole({ device: d, stream, onChange }: { device: Device; stream: Stream; onChange: (role: string) => void }) {
  const now = () => Object.fromEntries(d.streams.map((s) => [s.token, s.role]));
  const put = useRoles();
  const set = (role: Role) => {
    const before = now();
    const others = d.streams.filter((s) => s.role === role).map((s) => [s.token, stream.role]);
    const roles = { ...before, ...Object.fromEntries(others), [stream.token]: role };
    const back = () => put.mutate({ device: d.id, roles: before }, { onSuccess: () => onChange(before[stream.token] ?? "main") });
    put.mutate(
      { device: d.id, roles },
      {
        onSuccess: () => {
          onChange(role);
          toast(`Used as ${role}`, { action: { label: "Undo", onClick: back } });
        },
      },
    );
  };
  if (d.streams.length < 2 && !stream.given) return null;
  return (
    <div className="flex flex-wrap items-center gap-2 px-4 pb-3 text-small">
      {d.streams.length > 1 && (
        <>
          <span className="text-soft">Used as</span>
          <Choice<Role>
            label="What the stream is used as"
            value={stream.role as Role}
            onChange={set}
            options={roles.slice(0, Math.max(2, d.streams.length)).map((r) => [r, r] as const)}
            className="gap-1"
          />
        </>
      )}
      {stream.given && <Given device={d} stream={stream} onGone={() => onChange("main")} />}
    </div>
  );
}

/** A stream that somebody has given by its URL can be taken away again. */
function Given({ device: d, stream, onGone }: { device: Device; stream: Stream; onGone: () => void }) {
  const { site } = useFrame();
  const put = useGiven(site.id);
  const away = () =>
    put.mutate(
      { device: d.id, token: stream.token },
      {
        onSuccess: () => {
          onGone();
          toast("The stream is taken away", {
            action: { label: "Undo", onClick: () => put.mutate({ device: d.id, token: stream.token, back: true }) },
          });
        },
      },
    );
  return (
    <span className="ml-auto flex items-center gap-2 text-soft">
      given by a person
      <Button className="h-7" disabled={put.isPending} onClick={away}>
        Take it away
      </Button>
    </span>
  );
}
