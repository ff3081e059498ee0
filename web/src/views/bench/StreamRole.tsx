import { toast } from "sonner";
import { useRoles } from "@/api/actions";
import type { Device, Stream } from "@/api/client";
import { Choice } from "@/parts/Choice";

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
  if (d.streams.length < 2) return null;
  return (
    <div className="flex items-center gap-2 px-4 pb-3 text-small">
      <span className="text-soft">Used as</span>
      <Choice<Role>
        label="What the stream is used as"
        value={stream.role as Role}
        onChange={set}
        options={roles.slice(0, Math.max(2, d.streams.length)).map((r) => [r, r] as const)}
        className="gap-1"
      />
    </div>
  );
}
