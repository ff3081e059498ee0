import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, must, Problem, type Site } from "@/api/client";
import { useInterfaces } from "@/api/queries";
import { Button } from "./Button";
import { Field } from "./Field";
import { Sheet } from "./Sheet";
import { Trouble } from "./Trouble";

/** Makes a site or changes one. A large range is asked about with its number of addresses. */
export function SiteSheet({
  open,
  onOpenChange,
  site,
  onDone,
}: {
  open: boolean;
  onOpenChange: (open: boolean) => void;
  site?: Site;
  onDone: (id: string) => void;
}) {
  const [name, setName] = useState(site?.name ?? "");
  const [ranges, setRanges] = useState(site?.ranges.join(", ") ?? "");
  const interfaces = useInterfaces();
  const q = useQueryClient();
  const save = useMutation({
    mutationFn: async (confirm: boolean) => {
      const body = { name, ranges: [ranges], confirm_large: confirm };
      if (!site) return (await must(api.POST("/api/sites", { body }))).id;
      await must(api.PUT("/api/sites/{site}", { params: { path: { site: site.id } }, body }));
      return site.id;
    },
    onSuccess: (id) => {
      q.invalidateQueries();
      onOpenChange(false);
      onDone(id);
    },
  });
  const large = save.error instanceof Problem && save.error.cause === "too_many_addresses" ? save.error : null;
  const offers = (interfaces.data ?? []).filter((i) => i.ranges.length > 0);
  return (
    <Sheet title={site ? "Change the site" : "New site"} open={open} onOpenChange={onOpenChange}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate(false);
        }}
      >
        <Field
          label="Name"
          name="site-name"
          required
          autoFocus
          autoComplete="off"
          value={name}
          onChange={(e) => setName(e.target.value)}
          placeholder="Engine Works"
        />
        <Field
          label="Authorised ranges"
          name="site-ranges"
          required
          autoComplete="off"
          className="mono"
          value={ranges}
          onChange={(e) => {
            setRanges(e.target.value);
            save.reset();
          }}
          placeholder="192.0.2.0/24"
          hint="Unlatch connects to nothing outside them. Part several with commas; 192.0.2.10-40 works too."
        />
        {offers.length > 0 && (
          <div>
            <p className="mb-1 text-small text-soft">This machine sits in</p>
            <ul className="space-y-1">
              {offers.map((i) => (
                <li key={i.name} className="flex items-center gap-2">
                  <Button className="mono" onClick={() => setRanges(i.ranges.join(", "))}>
                    {i.ranges.join(", ")}
                  </Button>
                  <span className="text-small text-soft">
                    {i.name}
                    {i.gateway && `, gateway ${i.gateway}`}
                  </span>
                </li>
              ))}
            </ul>
          </div>
        )}
        {large ? (
          <div role="alert" className="border-l-4 border-brass bg-well px-3 py-2">
            <p>These ranges hold {large.count.toLocaleString("en")} addresses. A sweep of them takes hours.</p>
            <Button className="mt-2" onClick={() => save.mutate(true)}>
              Use them all the same
            </Button>
          </div>
        ) : (
          <Trouble error={save.error} />
        )}
        <div className="flex justify-end gap-2 pt-1">
          <Button onClick={() => onOpenChange(false)}>Cancel</Button>
          <Button look="next" type="submit" disabled={!name.trim() || !ranges.trim() || save.isPending}>
            {site ? "Save" : "Make the site"}
          </Button>
        </div>
      </form>
    </Sheet>
  );
}
