import { type KeyboardEvent, type ReactNode, useId } from "react";

/**
 * Tabs shows one of several panels; arrow keys, Home and End go from tab to tab
 * when one has the focus.
 */
export function Tabs<T extends string>(props: {
  label: string;
  tabs: readonly T[];
  chosen: T;
  onChoose: (tab: T) => void;
  words: (tab: T) => ReactNode;
  className?: string;
  tab?: string;
  panel?: string;
  children: ReactNode;
}) {
  const id = useId();
  const press = (e: KeyboardEvent<HTMLDivElement>) => {
    const at = props.tabs.indexOf(props.chosen);
    const last = props.tabs.length - 1;
    const to = {
      ArrowRight: at === last ? 0 : at + 1,
      ArrowLeft: at === 0 ? last : at - 1,
      Home: 0,
      End: last,
    }[e.key];
    const tab = to === undefined ? undefined : props.tabs[to];
    if (tab !== undefined && !e.ctrlKey && !e.altKey && !e.metaKey) {
      e.preventDefault();
      e.currentTarget.querySelectorAll("button")[to ?? 0]?.focus();
      props.onChoose(tab);
    }
  };
  return (
    <>
      <div
        role="tablist"
        aria-label={props.label}
        onKeyDown={press}
        className={props.className ?? "flex gap-6 border-b border-base-content mb-3"}
      >
        {props.tabs.map((t) => (
          <button
            key={t}
            id={`${id}${t}`}
            type="button"
            role="tab"
            aria-selected={t === props.chosen}
            aria-controls={`${id}panel`}
            tabIndex={t === props.chosen ? 0 : -1}
            className={`${props.tab ?? "pb-1 border-b-4"} ${t === props.chosen ? "border-primary font-semibold" : "border-transparent"}`}
            onClick={() => props.onChoose(t)}
          >
            {props.words(t)}
          </button>
        ))}
      </div>
      <div role="tabpanel" id={`${id}panel`} aria-labelledby={`${id}${props.chosen}`} className={props.panel}>
        {props.children}
      </div>
    </>
  );
}
