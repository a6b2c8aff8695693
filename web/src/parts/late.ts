import { useEffect, useState } from "react";

/** useLate is a value as it was once it has stayed so for some milliseconds. */
export function useLate(value: string, ms: number): string {
  const [late, setLate] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setLate(value), ms);
    return () => clearTimeout(timer);
  }, [value, ms]);
  return late;
}
