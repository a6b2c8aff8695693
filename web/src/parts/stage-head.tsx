import type { ReactNode } from "react";

/** StageHead is the line on top of a stage: its name, what it answers, what can be done. */
export function StageHead({
  title,
  children,
  actions,
}: {
  title: string;
  children?: ReactNode;
  actions?: ReactNode;
}) {
  return (
    <header className="flex items-end gap-4 px-6 pt-4 pb-2">
      <div className="min-w-0">
        <h1 className="text-2xl leading-7">{title}</h1>
        {children ? <p className="text-secondary text-[13px]">{children}</p> : null}
      </div>
      <div className="ml-auto flex gap-2 items-center flex-wrap justify-end">{actions}</div>
    </header>
  );
}
