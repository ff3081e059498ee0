/** The keys of everything that is asked of the server, in one place: what one view changes, another finds. */
export const keys = {
  session: () => ["session"] as const,
  sites: () => ["sites"] as const,
  site: (site: string) => ["site", site] as const,
  devices: (site: string) => ["devices", site] as const,
  runs: (site: string) => ["runs", site] as const,
  signIns: () => ["sign-ins"] as const,
  interfaces: () => ["interfaces"] as const,
  evidence: (device: string) => ["evidence", device] as const,
  allEvidence: () => ["evidence"] as const,
  exchange: (record: string) => ["exchange", record] as const,
  guidance: (device: string) => ["guidance", device] as const,
  pathBooks: () => ["path-books"] as const,
  acts: () => ["acts"] as const,
  health: () => ["health"] as const,
  list: (site: string) => ["list", site] as const,
};
