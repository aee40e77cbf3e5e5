/** A sealing key, the same in every process of a test. */
export const sealingKey: string;
