/** Writes a count with a comma after each three digits. */
export const count = (n: number) => n.toLocaleString("en");
