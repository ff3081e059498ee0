import type { FirmwareCount } from "@/api/client";
import { holdsWords } from "@/parts/words";

/** A model with its versions of firmware, those that most devices run first. */
export type ModelFirmware = { maker: string; model: string; versions: { version: string; devices: number; counts: FirmwareCount[] }[] };

/** Groups counts by model and version, of those that hold every word of a text. Models with several versions come first. */
export function ofModels(counts: FirmwareCount[], text: string): ModelFirmware[] {
  const holds = holdsWords(text);
  const models = new Map<string, ModelFirmware>();
  for (const c of counts) {
    if (!holds(c.maker, c.model, c.version)) continue;
    const key = JSON.stringify([c.maker, c.model]);
    const model = models.get(key) ?? { maker: c.maker, model: c.model, versions: [] };
    models.set(key, model);
    const version = model.versions.find((v) => v.version === c.version);
    if (version) {
      version.devices += c.devices;
      version.counts.push(c);
    } else model.versions.push({ version: c.version, devices: c.devices, counts: [c] });
  }
  for (const m of models.values()) m.versions.sort((a, b) => b.devices - a.devices || a.version.localeCompare(b.version));
  const name = (m: ModelFirmware) => `${m.maker} ${m.model}`;
  return [...models.values()].sort(
    (a, b) => Number(b.versions.length > 1) - Number(a.versions.length > 1) || name(a).localeCompare(name(b)),
  );
}

/** The same as a table for a spreadsheet: a line for each model, version and site, parted by tabs. */
export function asTable(models: ModelFirmware[], nameOf: (site: string) => string): string {
  const cell = (s: string) => s.replaceAll(/[\t\r\n]+/g, " ").replace(/^[=+\-@]/, "'$&"); // a device's word is no formula
  const line = (...cells: (string | number)[]) => cells.map((c) => (typeof c === "number" ? c : cell(c))).join("\t");
  return [
    line("Maker", "Model", "Firmware", "Site", "Devices"),
    ...models.flatMap((m) => m.versions.flatMap((v) => v.counts.map((c) => line(m.maker, m.model, v.version, nameOf(c.site), c.devices)))),
  ].join("\n");
}
