/** The height of a row, in pixels. */
export const rowHeight = 44;

/** The columns of the line-up; narrow while the bench stands beside it. */
export const columns = (narrow: boolean) =>
  narrow
    ? "md:grid-cols-[20px_56px_minmax(140px,1fr)_132px_minmax(70px,130px)]"
    : "md:grid-cols-[20px_56px_minmax(160px,1fr)_132px_228px_228px_minmax(90px,140px)]";
