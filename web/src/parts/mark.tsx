/** Mark shows a severity by shape, word and colour. */
export function Mark({ severity, count }: { severity: string; count?: number }) {
  const shape = { error: "■", warning: "▲", note: "○" }[severity] ?? "○";
  const tone = { error: "text-error", warning: "text-warning", note: "text-secondary" }[severity];
  const word = count === undefined || count === 1 ? severity : `${severity}s`;
  return (
    <span className={`whitespace-nowrap ${tone}`}>
      <span aria-hidden="true">{shape}</span> {count === undefined ? "" : `${count} `}
      {word}
    </span>
  );
}
