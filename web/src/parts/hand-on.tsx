import { Copy } from "./copy";

/** HandOn shows a one-time link to be passed to someone. */
export function HandOn({ link, who }: { link: string; who: string }) {
  const whole = location.origin + link;
  return (
    <div role="status" className="border-l-4 border-primary bg-base-200 px-3 py-2 my-3 max-w-2xl">
      <p>
        Send this link to <span className="font-mono">{who}</span>. It sets a password once, within 72 hours,
        and is not shown again:
      </p>
      <p className="font-mono text-[13px] break-all">
        {whole} <Copy text={whole} />
      </p>
    </div>
  );
}
