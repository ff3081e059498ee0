import type { Role } from "@/api/client";

export const roleNames: Record<Role, string> = {
  owner: "Owner",
  engineer: "Engineer",
  technician: "Technician",
  viewer: "Viewer",
  customer: "Customer",
};

/** The roles, from the most that they may do to the least. The table that the server goes by stands in core/decide/act/right.go. */
export const roles: { role: Role; may: string }[] = [
  { role: "owner", may: "Everything on every site, and people." },
  { role: "engineer", may: "Everything on the given sites: ranges, the keyring, shown passwords. No people." },
  { role: "technician", may: "Works on the given sites. Sees no password, and changes no ranges." },
  { role: "viewer", may: "Sees all of the given sites but passwords and conversations with devices. Changes nothing." },
  { role: "customer", may: "Sees the cameras of the given sites in plain words, with live pictures. Nothing else." },
];

/** A one-time link right after it was made. */
export type Made = { name: string; token: string; reset: boolean };
