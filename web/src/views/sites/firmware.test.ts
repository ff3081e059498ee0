import { expect, test } from "vitest";
import { asTable, ofModels } from "./firmware";

const counts = [
  { site: "a", maker: "Corvane", model: "V4", version: "4.1.1", devices: 2 },
  { site: "a", maker: "Corvane", model: "V4", version: "4.1.2", devices: 3 },
  { site: "b", maker: "Corvane", model: "V4", version: "4.1.2", devices: 1 },
  { site: "b", maker: "Brackwell", model: "B1", version: "", devices: 1 },
];

test("models with several versions come first, and of their versions those that most run", () => {
  const models = ofModels(counts, "");
  expect(models.map((m) => m.model)).toEqual(["V4", "B1"]);
  expect(models[0]!.versions.map((v) => [v.version, v.devices])).toEqual([
    ["4.1.2", 4],
    ["4.1.1", 2],
  ]);
});

test("every word of a text is looked for", () => {
  expect(ofModels(counts, "corvane 4.1.1").flatMap((m) => m.versions.map((v) => v.version))).toEqual(["4.1.1"]);
  expect(ofModels(counts, "corvane b1")).toEqual([]);
});

test("as a table, each site has a line, and nothing that a device says is a formula", () => {
  const table = asTable(ofModels([{ site: "a", maker: "=1+1", model: "V\t4", version: "-2", devices: 3 }], ""), () => "Tarn Ferry");
  expect(table.split("\n")).toEqual(["Maker\tModel\tFirmware\tSite\tDevices", "'=1+1\tV 4\t'-2\tTarn Ferry\t3"]);
});
