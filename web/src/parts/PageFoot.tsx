import { useHealth } from "@/api/queries";

/** The foot of a page that belongs to no site: which version this is. */
export function PageFoot() {
  const version = useHealth().data?.version;
  if (!version) return null;
  return (
    <footer data-version className="mt-auto px-4 py-3 text-center text-small text-soft sm:px-8">
      Unlatch {version}
    </footer>
  );
}
