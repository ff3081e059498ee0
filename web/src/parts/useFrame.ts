import { useOutletContext } from "react-router";
import type { Device, Site } from "@/api/client";

/** What every view of a site shares. */
export type Frame = {
  site: Site;
  devices: Device[];
  sweep: () => void;
  addSignIn: (why?: string, then?: () => void, device?: Device) => void;
  changeSite: () => void;
  paste: () => void;
};

export const useFrame = () => useOutletContext<Frame>();
