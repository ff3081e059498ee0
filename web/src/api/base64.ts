/** Reads a file as base64, in pieces that the browser's call stack can take. */
export async function base64(file: File) {
  const raw = new Uint8Array(await file.arrayBuffer());
  let text = "";
  for (let i = 0; i < raw.length; i += 8192) text += String.fromCharCode(...raw.subarray(i, i + 8192));
  return btoa(text);
}
