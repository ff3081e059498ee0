/** Saves a text as a file of the person's. */
export function saveText(name: string, text: string, type = "text/plain") {
  saveBlob(name, new Blob([text], { type: `${type};charset=utf-8` }));
}

/** Saves bytes as a file of the person's. Characters that a file name cannot hold become dashes. */
export function saveBlob(name: string, blob: Blob) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name.replace(/[^\p{L}\p{N} .,_-]/gu, "-");
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}
