// @vitest-environment jsdom
import { describe, expect, it } from "vitest";
import { suggest } from "./AddressSheet";

const empty = { pool: "", dhcp: "", gateway: "", bits: 0 };

describe("where to begin with a site's addresses", () => {
  it("offers the upper part of the first network and the gateway that lies in it", () => {
    expect(suggest({ ranges: ["192.0.2.0/24"], network: empty }, ["198.51.100.1", "192.0.2.1"])).toEqual({
      pool: "192.0.2.101-192.0.2.199",
      dhcp: "",
      gateway: "192.0.2.1",
      bits: 24,
    });
  });
  it("keeps what the site has", () => {
    const network = { pool: "192.0.2.50-192.0.2.60", dhcp: "", gateway: "", bits: 25 };
    expect(suggest({ ranges: ["192.0.2.0/24"], network }, [])).toEqual(network);
  });
  it("invents nothing for networks that it cannot read", () => {
    expect(suggest({ ranges: ["2001:db8::/64"], network: empty }, []).pool).toBe("");
  });
});
