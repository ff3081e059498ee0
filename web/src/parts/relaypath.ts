/** The path that is offered for a camera's stream: its name as every client can write it. */
export function relayPath(name: string, role: string) {
  const plain = name
    .normalize("NFKD")
    .toLowerCase()
    .replace(/[\u0300-\u036f]/g, "")
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-+|-+$/g, "");
  return `${plain || "camera"}/${role}`;
}
