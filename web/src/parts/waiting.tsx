/** Waiting holds the place of what is still loading. */
export function Waiting({ what }: { what: string }) {
  return (
    <p className="p-6 text-secondary flex items-center gap-2" role="status">
      <span className="loading loading-dots loading-sm" /> Loading {what}
    </p>
  );
}
