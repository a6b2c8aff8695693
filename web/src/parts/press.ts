import { useEffect, useRef } from "react";

/** usePress listens to every key pressed on the page. */
export function usePress(onPress: (e: KeyboardEvent) => void) {
  const latest = useRef(onPress);
  useEffect(() => {
    latest.current = onPress;
  });
  useEffect(() => {
    const press = (e: KeyboardEvent) => latest.current(e);
    addEventListener("keydown", press);
    return () => removeEventListener("keydown", press);
  }, []);
}

/** Whether a key was pressed where one writes, or in one of these besides. */
export const within = (e: KeyboardEvent, more = "") =>
  e.target instanceof HTMLElement && e.target.closest(`input, textarea, select${more}`) !== null;
