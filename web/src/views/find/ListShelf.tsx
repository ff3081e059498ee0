import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, must, type Device } from "@/api/client";
import { useAddressList } from "@/api/actions";
import { Button } from "@/parts/Button";
import { FileButton } from "@/parts/FileButton";
import { Choice } from "@/parts/Choice";
import { Sure } from "@/parts/Sure";
import { keys } from "@/api/keys";
import { ListSheet } from "./ListSheet";

/** The address list that somebody brought along, beside what was heard: expected and found, expected and missing, found and unexpected. */
export function ListShelf({ site, devices, choose }: { site: string; devices: Device[]; choose: (device: string) => void }) {
  const [shown, setShown] = useState<"found" | "missing" | "unexpected">("missing");
  const path = { params: { path: { site } } };
  // Matched anew whenever the devices are: the key follows what matching looks at.
  const marks = devices.map((d) => `${d.address}${d.serial ?? ""}`).join();
  const list = useQuery({
    queryKey: [...keys.list(site), marks],
    queryFn: () => must(api.GET("/api/sites/{site}/address-list", path)),
    placeholderData: (old) => old,
  });
  const { drop, useNames: names } = useAddressList(site);
  const [file, setFile] = useState<File | null>(null);
  const [warnings, setWarnings] = useState<string[]>([]);
  const r = list.data?.result;
  const byId = new Map(devices.map((d) => [d.id, d]));
  return (
    <section aria-label="Address list" className="mt-5 border-t pt-3">
      <h2 className="font-semibold">
        Address list {!!list.data?.rows && <span className="num font-normal text-soft">{list.data.rows}</span>}
      </h2>
      {!list.data?.rows && (
        <p className="mt-1 mb-2 text-small text-soft">
          Bring a list of what should be here (CSV, XLSX, M3U, or the data of a handover pack) and see what is missing.
        </p>
      )}
      {r && !!list.data?.rows && (
        <>
          <Choice
            label="Which part of the list"
            value={shown}
            onChange={setShown}
            className="my-2 flex-wrap gap-1 text-small"
            options={[
              [
                "found",
                <>
                  <b className="num">{r.found.length}</b> found
                </>,
              ],
              [
                "missing",
                <>
                  <b className="num">{r.missing.length}</b> missing
                </>,
              ],
              [
                "unexpected",
                <>
                  <b className="num">{r.unexpected.length}</b> not listed
                </>,
              ],
            ]}
          />
          <ul className="max-h-64 overflow-auto border-y text-small">
            {shown === "found" &&
              r.found.map((f) => (
                <li key={f.row.line} className="border-b py-1.5 last:border-b-0">
                  <button type="button" className="text-left hover:underline" onClick={() => choose(f.device)}>
                    <span className="font-medium">{f.row.name || f.row.address}</span>{" "}
                    <span className="mono text-soft">{byId.get(f.device)?.address}</span>
                  </button>
                  <div className={f.differs ? "text-stuck" : "text-soft"}>
                    by {f.by}
                    {f.differs && `; ${f.differs}`}
                  </div>
                </li>
              ))}
            {shown === "missing" &&
              r.missing.map((m) => (
                <li key={m.line} className="border-b py-1.5 last:border-b-0" data-missing={m.name}>
                  <span className="font-medium">{m.name || `line ${m.line}`}</span>{" "}
                  <span className="mono text-soft">{m.address || m.serial || m.mac}</span>
                  {m.note && <div className="text-soft">{m.note}</div>}
                </li>
              ))}
            {shown === "unexpected" &&
              r.unexpected.map((id) => (
                <li key={id} className="border-b py-1.5 last:border-b-0">
                  <button type="button" className="text-left hover:underline" onClick={() => choose(id)}>
                    {byId.get(id)?.name} <span className="mono text-soft">{byId.get(id)?.address}</span>
                  </button>
                </li>
              ))}
            {(shown === "found" ? r.found : shown === "missing" ? r.missing : r.unexpected).length === 0 && (
              <li className="py-1.5 text-soft">None.</li>
            )}
          </ul>
        </>
      )}
      {warnings.length > 0 && (
        <p className="mt-2 text-small text-soft">
          {warnings.slice(0, 5).join(" ")}
          {warnings.length > 5 && ` And ${warnings.length - 5} more.`}
        </p>
      )}
      <div className="mt-2 flex flex-wrap gap-2">
        <FileButton name="Address list file" accept=".csv,.tsv,.txt,.xlsx,.m3u,.m3u8,.json,text/csv" onFile={setFile}>
          {list.data?.rows ? "Bring another" : "Bring a list"}
        </FileButton>
        {file && <ListSheet site={site} file={file} onClose={() => setFile(null)} onBrought={setWarnings} />}
        {r?.found.some((f) => f.row.name) && <Button onClick={() => names.mutate()}>Use its names</Button>}
        {!!list.data?.rows && (
          <Sure
            ask="Take the list away?"
            more="The names and addresses in it are forgotten; the devices stay as they are. The file is still yours to bring again."
            yes="Take it away"
            onYes={() => drop.mutate(undefined, { onSuccess: () => setWarnings([]) })}
          >
            <Button look="quiet">Remove</Button>
          </Sure>
        )}
      </div>
    </section>
  );
}
