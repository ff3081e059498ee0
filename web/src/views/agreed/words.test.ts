import { expect, test } from "vitest";
import type { Baseline, DeviceChange } from "@/api/client";
import { asText, headline } from "./words";

const since = { id: "b1", name: "Handed over", at: "2026-01-05T10:00:00Z" } as Baseline;
const change = (title: string, is: DeviceChange["is"], fields: DeviceChange["fields"] = []) => ({ device: title, title, is, fields });

test("a comparison is told in one sentence", () => {
  expect(headline({ changes: [], same: 1 })).toBe("The device is as it was agreed.");
  expect(headline({ changes: [], same: 24 })).toBe("All 24 devices are as they were agreed.");
  const all = [change("a", "changed"), change("b", "changed"), change("c", "gone"), change("d", "new")];
  expect(headline({ changes: all, same: 20 })).toBe("2 devices changed, 1 not there any more, 1 new, 20 as agreed.");
  expect(headline({ changes: all.slice(3), same: 0 })).toBe("1 new.");
});

test("a comparison as text names every field", () => {
  const changes = [
    change("Weir", "changed", [
      { field: "firmware", words: "Firmware", was: "4.1", is: "4.2" },
      { field: "rate", subject: "main", words: "Frame rate, main", was: "25 fps" },
    ]),
    change("Kiosk", "gone"),
  ];
  expect(asText({ changes, same: 3 }, since)).toBe(
    [
      "From Handed over (2026-01-05T10:00:00Z) to now: 1 device changed, 1 not there any more, 3 as agreed.",
      "",
      "Weir",
      "  Firmware: 4.1 → 4.2",
      "  Frame rate, main: 25 fps → not known any more",
      "",
      "Kiosk: not there any more",
    ].join("\n"),
  );
});
