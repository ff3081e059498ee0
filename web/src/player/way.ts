/** What ends a way of playing: why, and whether another try may help. */
export class Ended extends Error {
  constructor(
    message: string,
    readonly final = false,
  ) {
    super(message);
  }
}

/** Plays the stream in the element until it ends, which rejects. started is called with the first picture. */
export type Way = (video: HTMLVideoElement, started: () => void) => Promise<never>;
