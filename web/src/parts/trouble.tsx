/** Trouble says what went wrong; what was entered stays where it is. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) {
    return null;
  }
  return (
    <p role="alert" className="border-l-4 border-error bg-error/10 px-3 py-2 my-2">
      <strong className="text-error">■ Not done.</strong>{" "}
      {error instanceof Error ? error.message : "Something unexpected happened."}
    </p>
  );
}
