/** The part of the library that plays without subtitles and locked content; it has the types of the whole. */
declare module "hls.js/light" {
  export { default } from "hls.js";
}
