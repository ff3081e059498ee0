import { afterEach, expect, test, vi } from "vitest";

vi.stubGlobal("location", { origin: "http://127.0.0.1" });
const { exchangeText, Problem } = await import("./client");

afterEach(() => vi.unstubAllGlobals());

const answer = (status: number, body: string) => vi.stubGlobal("fetch", async () => new Response(body, { status }));

test("the conversation is what a good answer holds", async () => {
  answer(200, "> DESCRIBE");
  expect(await exchangeText("1")).toBe("> DESCRIBE");
});

test("an error is not taken for the conversation", async () => {
  answer(401, JSON.stringify({ status: 401, detail: "You are signed out.", cause: "signed_out", fix: "Sign in." }));
  await expect(exchangeText("1")).rejects.toMatchObject({ cause: "signed_out", message: "You are signed out.", fix: "Sign in." });
  answer(502, "<h1>Bad gateway</h1>");
  await expect(exchangeText("1")).rejects.toBeInstanceOf(Problem);
});
