/** Writes a count with a comma after each three digits. */
export const count = (n: number) => n.toLocaleString("en");

/** Writes how many there are of something: "1 pair", "1,200 pairs". */
export const many = (n: number, one: string, more = `${one}s`) => `${count(n)} ${n === 1 ? one : more}`;
