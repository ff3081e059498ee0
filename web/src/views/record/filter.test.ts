import { expect, test } from "vitest";
import { queryOf } from "./filter";

test("what stands in the address becomes a query, days as whole days of the browser", () => {
  const q = queryOf(new URLSearchParams("person=Edda&text=%20vault%20&from=2026-11-28&to=2026-11-28&act=&other=1"));
  expect(q).toEqual({
    person: "Edda",
    text: "vault",
    from: new Date(2026, 10, 28).toISOString(),
    to: new Date(2026, 10, 29).toISOString(),
  });
  expect(queryOf(new URLSearchParams("from=nonsense"))).toEqual({});
});
