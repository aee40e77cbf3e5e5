/** What marks a problem: known to every copy of this library in one program, such as a bundle's and an app's own. */
export const problemMark = Symbol.for("tenonsaw problem");
