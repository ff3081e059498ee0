/** A page of a PDF, or a picture, as the server takes it. */

/** The longest side of a page that is drawn, in pixels, and how large a file may be, in bytes. */
const pageSide = 3200;
const mostBytes = 20 * 1024 * 1024;

export class FileProblem extends Error {}

const isPdf = async (file: File) => (await file.slice(0, 5).text()) === "%PDF-";

// What draws PDFs is large, and wanted seldom: it is loaded when somebody brings one. It runs no scripts of theirs.
async function open(file: File) {
  const pdf = await import("pdfjs-dist");
  const worker = await import("pdfjs-dist/build/pdf.worker.min.mjs?url");
  pdf.GlobalWorkerOptions.workerSrc = worker.default;
  try {
    return await pdf.getDocument({ data: await file.arrayBuffer(), isEvalSupported: false, enableXfa: false }).promise;
  } catch (e) {
    const why = e instanceof Error && e.name === "PasswordException" ? "it is closed with a password" : "it is damaged";
    throw new FileProblem(`The PDF cannot be read: ${why}. Save it anew, or take a picture of the page.`);
  }
}

/** How many pages a file has that may be drawn; 1 for a picture. */
export async function pagesOf(file: File): Promise<number> {
  if (file.size > mostBytes) throw new FileProblem(`The file has ${Math.round(file.size / 1e6)} MB. Bring one of 20 MB at most.`);
  if (!(await isPdf(file))) return 1;
  const doc = await open(file);
  const n = doc.numPages;
  void doc.loadingTask.destroy();
  if (n < 1) throw new FileProblem("The PDF has no pages. Take another one.");
  return n;
}

/** The picture of a file, of a PDF that of one page, counted from 1. */
export async function pictureOf(file: File, page: number): Promise<File> {
  if (!(await isPdf(file))) return file;
  const doc = await open(file);
  try {
    const p = await doc.getPage(page);
    const natural = p.getViewport({ scale: 1 });
    const viewport = p.getViewport({ scale: pageSide / Math.max(natural.width, natural.height) });
    const canvas = document.createElement("canvas");
    canvas.width = Math.max(1, Math.round(viewport.width));
    canvas.height = Math.max(1, Math.round(viewport.height));
    await p.render({ canvas, viewport, background: "#ffffff" }).promise;
    const blob = await new Promise<Blob | null>((done) => canvas.toBlob(done, "image/png"));
    if (!blob) throw new FileProblem("The page could not be drawn. Take a picture of it.");
    return new File([blob], `${file.name}.png`, { type: "image/png" });
  } finally {
    void doc.loadingTask.destroy();
  }
}
