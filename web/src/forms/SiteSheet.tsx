import { z } from "zod";
import { useState } from "react";
import { useSaveSite } from "@/api/actions";
import { Problem, type Site } from "@/api/client";
import { useInterfaces, useSites } from "@/api/queries";
import { Both } from "@/parts/Both";
import { Button } from "@/parts/Button";
import { customersOf } from "@/parts/customers";
import { Foot } from "@/parts/Foot";
import { Field } from "./Field";
import { useSchema } from "./useSchema";
import { Sheet } from "@/parts/Sheet";

const Schema = z.object({
  name: z.string().trim().min(1, "Give the site a name.").max(120, "The name is longer than 120 characters."),
  customer: z.string().trim().max(120, "The customer’s name is longer than 120 characters."),
  ranges: z.string().trim().min(1, "Say which addresses Unlatch may connect to."),
  link: z
    .string()
    .trim()
    .regex(/^\d{0,5}$/, "Type a number of Mbit/s, or nothing."),
});

/** A site as Both shows it beside what somebody else has made of it. */
const shown = ({ name, customer, ranges, link }: z.infer<typeof Schema>): Record<string, string> => ({
  name,
  ...(customer ? { customer } : {}),
  ranges,
  ...(link ? { link: `${link} Mbit/s` } : {}),
});

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
  const interfaces = useInterfaces();
  const customers = customersOf(useSites().data ?? []);
  const form = useSchema(Schema, {
    name: site?.name ?? "",
    customer: site?.customer ?? "",
    ranges: site?.ranges.join(", ") ?? "",
    link: site?.link_mbps ? String(site.link_mbps) : "",
  });
  const save = useSaveSite(site?.id);
  const [seen, setSeen] = useState(site && { name: site.name, customer: site.customer, ranges: site.ranges, link_mbps: site.link_mbps });
  const send = (confirm_large: boolean, was = seen) =>
    form.handleSubmit(({ name, customer, ranges, link }) =>
      save.mutate(
        { name, customer, ranges: [ranges], confirm_large, link_mbps: Number(link), was },
        {
          onSuccess: (id) => {
            onOpenChange(false);
            onDone(id);
          },
        },
      ),
    )();
  const large = save.error instanceof Problem && save.error.cause === "too_many_addresses" ? save.error : null;
  const other = save.error instanceof Problem ? save.error.changed : undefined;
  const theirs = () => ({
    name: other?.now.name ?? "",
    customer: other?.now.customer ?? "",
    ranges: [other?.now.ranges ?? ""],
    link_mbps: Number.parseInt(other?.now.link ?? "0", 10),
  });
  const offers = (interfaces.data ?? []).filter((i) => i.ranges.length > 0);
  return (
    <Sheet title={site ? "Change the site" : "New site"} open={open} onOpenChange={onOpenChange}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          void send(false);
        }}
      >
        <Field
          label="Name"
          {...form.register("name")}
          error={form.formState.errors.name?.message}
          autoFocus
          autoComplete="off"
          placeholder="Engine Works"
        />
        <Field
          label="Customer (optional)"
          {...form.register("customer")}
          error={form.formState.errors.customer?.message}
          autoComplete="off"
          list="customers"
          placeholder="Tarnside Railway"
          hint="Sites are listed by it."
        />
        <datalist id="customers">
          {customers.map((c) => (
            <option key={c} value={c} />
          ))}
        </datalist>
        <Field
          label="Authorised ranges"
          {...form.register("ranges", { onChange: () => save.reset() })}
          error={form.formState.errors.ranges?.message}
          autoComplete="off"
          mono
          placeholder="192.0.2.0/24"
          hint="Unlatch connects to nothing outside them. Part several with commas; 192.0.2.10-40 works too."
        />
        {offers.length > 0 && (
          <div>
            <p className="mb-1 text-small text-soft">This machine sits in</p>
            <ul className="space-y-1">
              {offers.map((i) => (
                <li key={i.name} className="flex items-center gap-2">
                  <Button className="mono" onClick={() => form.setValue("ranges", i.ranges.join(", "), { shouldValidate: true })}>
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
        <Field
          label="Link budget, Mbit/s (optional)"
          {...form.register("link")}
          error={form.formState.errors.link?.message}
          autoComplete="off"
          inputMode="numeric"
          className="num w-64"
          placeholder="60 % of what the card carries"
          hint="How much may flow at once while streams are measured."
        />
        {large && (
          <div role="alert" className="border-l-4 border-brass bg-well px-3 py-2">
            <p>These ranges hold {large.count.toLocaleString("en")} addresses. A sweep of them takes hours.</p>
            <Button className="mt-2" onClick={() => void send(true)}>
              Use them all the same
            </Button>
          </div>
        )}
        {other && (
          <Both
            changed={other}
            mine={shown(form.getValues())}
            onTheirs={() => {
              form.reset({
                name: other.now.name,
                customer: other.now.customer ?? "",
                ranges: other.now.ranges,
                link: other.now.link?.replace(/\D/g, "") ?? "",
              });
              setSeen(theirs());
              save.reset();
            }}
            onMine={() => void send(false, theirs())}
          />
        )}
        <Foot error={large || other ? null : save.error}>
          <Button onClick={() => onOpenChange(false)}>Cancel</Button>
          <Button look="next" type="submit" disabled={save.isPending}>
            {site ? "Save" : "Make the site"}
          </Button>
        </Foot>
      </form>
    </Sheet>
  );
}
