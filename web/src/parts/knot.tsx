/** The project's sign: two threads, one over the other. */
export function Knot({ className }: { className: string }) {
  return (
    <svg
      viewBox="0 0 32 32"
      aria-hidden="true"
      className={`${className} text-primary`}
      fill="none"
      stroke="currentColor"
      strokeWidth="3.2"
      strokeLinecap="round"
    >
      <path d="M3 21c9 0 8-12 15-12 5 0 5 7 0 7-4 0-4 7 1 7 4 0 5-2 10-2" />
      <path d="M3 11c5 0 6 2 10 2" opacity=".55" />
    </svg>
  );
}
