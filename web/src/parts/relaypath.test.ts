import { expect, test } from "vitest";
import { relayPath } from "./relaypath";

test("a path is offered that every client can write", () => {
  expect(relayPath("Ticket window", "main")).toBe("ticket-window/main");
  expect(relayPath("Übergang (Nord) 2", "sub")).toBe("ubergang-nord-2/sub");
  expect(relayPath("駅", "main")).toBe("camera/main");
});
