import { useMutation } from "@tanstack/react-query";
import { toast } from "sonner";
import { api, must, type Device, type Stream } from "@/api/client";
import { say } from "@/api/queries";
import { Choice } from "./Choice";

const roles = ["main", "sub", "third"] as const;
type Role = (typeof roles)[number];

/** What a person uses a stream as. The stream that had the role before takes this one's. */
export function StreamRole({ device: d, stream, onChange }: { device: Device; stream: Stream; onChange: (role: string) => void }) {
  const now = () => Object.fromEntries(d.streams.map((s) => [s.token, s.role]));
  const put = (given: Record<string, string>) =>
    must(api.PUT("/api/devices/{device}/roles", { params: { path: { device: d.id } }, body: { roles: given } }));
  const set = useMutation({
    mutationFn: (role: string) =>
      put({
        ...now(),
        ...Object.fromEntries(d.streams.filter((s) => s.role === role).map((s) => [s.token, stream.role])),
        [stream.token]: role,
      }),
    onSuccess: (_, role) => {
      const before = now();
      onChange(role);
      toast(`Used as ${role}`, {
        action: { label: "Undo", onClick: () => void put(before).then(() => onChange(before[stream.token] ?? "main"), say) },
      });
    },
    onError: say,
  });
  if (d.streams.length < 2) return null;
  return (
    <div className="flex items-center gap-2 px-4 pb-3 text-small">
      <span className="text-soft">Used as</span>
      <Choice<Role>
        label="What the stream is used as"
        value={stream.role as Role}
        onChange={(r) => set.mutate(r)}
        options={roles.slice(0, Math.max(2, d.streams.length)).map((r) => [r, r] as const)}
        className="gap-1"
      />
    </div>
  );
}
