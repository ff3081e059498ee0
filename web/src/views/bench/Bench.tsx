import { ArrowLeft, ExternalLink, Pencil, X } from "lucide-react";
import { useState, type ReactNode } from "react";
import { Link } from "react-router";
import { api, must, type Device } from "@/api/client";
import { useRename } from "@/api/actions";
import { useEvidence } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Copy } from "@/parts/Copy";
import { ago } from "@/parts/measures";
import { Ways } from "./Ways";
import { UrlSegments } from "./UrlSegments";
import { Agreed, Findings, StillMarked } from "@/parts/Findings";
import { BenchSections, deviceWord, signInWord, streamsWord, targetsWord, type Part } from "./BenchSections";
import { Channels } from "./Channels";
import { CommandButtons, Commands } from "./Commands";
import { TriedPaths } from "./TriedPaths";
import { TuneForm } from "./TuneForm";
import { ProofPlot, StreamFindings } from "./ProofPlot";
import { SignInGrid } from "./SignInGrid";
import { useFrame } from "@/parts/useFrame";
import { Relays } from "./Relays";
import { StreamRole } from "./StreamRole";
import { Clock, NextStep, type OnOpen } from "./BenchNextStep";
import { Evidence } from "./BenchEvidence";
import { Address, Claims, Facts, Fixes, Pictures, Placements } from "./BenchDevice";
import { Compare, Picture } from "./BenchStream";

type Props = {
  device: Device;
  onAgree: () => void;
  onAddress: () => void;
  onClaim: () => void;
  onStreamUser: () => void;
  onClose: () => void;
  onOpen: OnOpen;
};

/** The camera in hand: its picture, the one next step, its URLs, its evidence. */
export function Bench({ device: d, onAgree, onAddress, onClaim, onStreamUser, onClose, onOpen }: Props) {
  const { site } = useFrame();
  const [role, setRole] = useState("main");
  const stream = d.streams.find((s) => s.role === role) ?? d.streams[0];
  const seen = useEvidence(d.id).data?.length;
  const findings = (
    <div className="empty:hidden [&>*:first-child]:mt-3">
      <CommandButtons device={d} />
      <Findings device={d} />
      <div className="mx-4">
        <StillMarked device={d} />
      </div>
      {d.factory && (
        <section aria-label="Finding" className="mx-4 mb-3 flex items-center gap-3 border-l-4 border-stuck bg-paper px-3 py-2.5">
          <p className="grow">
            It still opens with the password that it has from the factory (user <span className="mono">{d.factory}</span>). Anybody who
            knows the maker’s papers can sign in.
          </p>
          <Button onClick={onClaim}>Give it its own</Button>
        </section>
      )}
      <Clock device={d} />
    </div>
  );
  const part = (id: string, name: string, [word, bad]: [string, boolean], body: ReactNode): Part => ({
    id,
    name,
    key: name === "Sign-ins" ? "i" : name[0]!.toLowerCase(),
    word,
    bad,
    body,
  });
  const parts = [
    ...(d.kind === "recorder" && !stream
      ? []
      : [
          part(
            "urls",
            "URLs",
            streamsWord(d),
            <>
              {stream && (
                <section className="px-4 py-3">
                  <UrlSegments
                    stream={stream}
                    name={d.name}
                    reveal={() =>
                      must(
                        api.POST("/api/devices/{device}/streams/{role}/reveal", { params: { path: { device: d.id, role: stream.role } } }),
                      ).then((r) => r.url)
                    }
                  />
                </section>
              )}
              {stream && <StreamRole device={d} stream={stream} onChange={setRole} />}
              {stream?.proof?.ok && <StreamFindings stream={stream} />}
              {stream?.proof?.ok && <ProofPlot stream={stream} />}
              {stream?.proof?.ok && <Compare device={d} stream={stream} />}
              {stream?.proof?.ok && !d.via && stream.claimed.codec !== "" && (
                <TuneForm key={`${d.id} ${stream.role}`} site={site.id} device={d} stream={stream} />
              )}
              {stream?.proof?.ok && <Relays site={site.id} device={d} stream={stream} />}
              <Ways device={d} />
              <Pictures device={d} />
              {d.tried_paths && <TriedPaths tried={d.tried_paths} />}
            </>,
          ),
        ]),
    part(
      "sign-ins",
      "Sign-ins",
      signInWord(d),
      <>
        <SignInGrid device={d} />
        <Agreed device={d} />
        <Fixes device={d} />
      </>,
    ),
    d.kind === "recorder"
      ? part("channels", "Channels", [d.channels ? String(d.channels.length) : "none", false], d.channels && <Channels recorder={d} />)
      : part("targets", "Targets", targetsWord(d), <Placements device={d} />),
    part(
      "device",
      "Device",
      deviceWord(d),
      <>
        {!d.via && <Address device={d} onAddress={onAddress} />}
        <Commands device={d} />
        <Facts device={d} />
        <Claims device={d} />
      </>,
    ),
    part("evidence", "Evidence", [seen === undefined ? "…" : String(seen), false], <Evidence device={d} />),
  ];
  return (
    <aside
      id="bench"
      tabIndex={-1}
      aria-label={`Bench: ${d.name}`}
      className="flex w-full shrink-0 flex-col overflow-auto border-l bg-sheet outline-none lg:w-[430px]
        [@media(min-width:64rem)_and_(min-height:44rem)]:overflow-hidden"
    >
      <div className="shrink-0">
        <Head device={d} onClose={onClose} />
        {d.kind === "camera" && <Picture device={d} stream={stream} role={role} setRole={setRole} />}
        <NextStep device={d} onAgree={onAgree} onClaim={onClaim} onStreamUser={onStreamUser} onOpen={onOpen} />
      </div>
      <BenchSections first={findings} parts={parts} />
    </aside>
  );
}

function NameInput({ device: d, onEnd }: { device: Device; onEnd: () => void }) {
  const { site } = useFrame();
  const rename = useRename(site.id);
  const [was] = useState(d.named ? d.name : "");
  return (
    <input
      autoFocus
      aria-label="Name"
      defaultValue={was}
      placeholder="What does it see?"
      className="h-7 w-full rounded-sm border bg-paper px-1.5 text-lg"
      onBlur={onEnd}
      onKeyDown={(e) => {
        if (e.key === "Enter") rename.mutate({ device: d.id, name: e.currentTarget.value.trim(), was });
        if (e.key === "Enter" || e.key === "Escape") onEnd();
      }}
    />
  );
}

function Head({ device: d, onClose }: { device: Device; onClose: () => void }) {
  const { site } = useFrame();
  const [editing, setEditing] = useState(false);
  return (
    <div className="flex items-center gap-2 px-4 pt-3 pb-2">
      <Button look="quiet" className="-ml-2 px-2 lg:hidden" aria-label="Back to the line-up" onClick={onClose}>
        <ArrowLeft size={18} />
      </Button>
      <div className="min-w-0 grow">
        {editing ? (
          <NameInput device={d} onEnd={() => setEditing(false)} />
        ) : (
          <h2 className="flex items-center gap-1 text-lg leading-7 font-semibold">
            <span className="truncate">{d.name}</span>
            <button
              type="button"
              aria-label="Change the name"
              title="Change the name (R)"
              className="rounded-sm p-1 text-soft hover:bg-well hover:text-ink"
              onClick={() => setEditing(true)}
            >
              <Pencil size={14} />
            </button>
          </h2>
        )}
        <div className="flex flex-wrap items-center gap-x-2 text-small whitespace-nowrap text-soft">
          {d.via ? (
            <span>
              channel {d.via.channel} of{" "}
              <Link to={`/sites/${site.id}?device=${d.via.recorder}`} className="underline hover:text-ink">
                {d.via.name}
              </Link>
            </span>
          ) : (
            <>
              <span className="mono">{d.address}</span>
              <Copy text={d.address} label="Copy" />
            </>
          )}
          {d.web && (
            <a href={d.web} target="_blank" rel="noreferrer" className="inline-flex items-center gap-1 underline hover:text-ink">
              {d.via ? "its page, through it" : "its own page"} <ExternalLink size={12} />
            </a>
          )}
        </div>
        {d.left_at && <div className="text-small text-stuck">It said goodbye {ago(d.left_at)}: switched off, restarted or moved.</div>}
      </div>
      <Button look="quiet" className="self-start px-2 max-lg:hidden" aria-label="Close the bench" title="Close (Esc)" onClick={onClose}>
        <X size={16} />
      </Button>
    </div>
  );
}
