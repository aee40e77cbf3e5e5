/** The text of a file, put into the bundle. */
declare module "*?raw" {
  const text: string;
  export default text;
}
