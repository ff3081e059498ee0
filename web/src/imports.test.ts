import { expect, test } from "vitest";

/** Every source of the front end, by its path below src without its ending. */
const sources: Record<string, string> = Object.fromEntries(
  Object.entries(import.meta.glob<string>("./**/*.{ts,tsx}", { query: "?raw", import: "default", eager: true }))
    .filter(([path]) => !path.includes(".test."))
    .map(([path, text]) => [path.replace(/^\.\//, "").replace(/\.tsx?$/, ""), text]),
);

/** What each file imports of the others, types among it. */
const imports = new Map(
  Object.entries(sources).map(([file, text]) => {
    const folder = file.split("/").slice(0, -1).join("/");
    const paths = [...text.matchAll(/(?:from |import\()"([^"]+)"/g)].map(([, path]) =>
      path!.startsWith("@/") ? path!.slice(2) : path!.replace(/^\.\//, folder ? `${folder}/` : ""),
    );
    return [file, paths.filter((p) => p in sources)];
  }),
);

test("arrows point one way: views, forms, parts, api", () => {
  const layers = ["api", "parts", "forms", "views"];
  const layer = (file: string) => layers.indexOf(file.split("/")[0]!);
  for (const [file, paths] of imports)
    for (const path of paths) if (file.includes("/")) expect(layer(path), `${file} imports ${path}`).toBeLessThanOrEqual(layer(file));
});

test("no file imports itself by way of others", () => {
  const done = new Set<string>();
  const visit = (file: string, way: string[]) => {
    expect(way, `${[...way, file].join(" → ")}`).not.toContain(file);
    if (done.has(file)) return;
    for (const path of imports.get(file)!) visit(path, [...way, file]);
    done.add(file);
  };
  for (const file of imports.keys()) visit(file, []);
});

test("what only one view uses stands in its folder", () => {
  for (const file of imports.keys()) {
    if (!/^(parts|forms)\//.test(file)) continue;
    const users = [...imports].filter(([, paths]) => paths.includes(file)).map(([user]) => user);
    const folders = new Set(users.map((u) => u.split("/").slice(0, -1).join("/")));
    const only = [...folders][0] ?? "";
    expect(folders.size === 1 && only.startsWith("views/"), `${file} is used by ${only} alone`).toBe(false);
  }
});
