import { Link } from "react-router";
import { Knot } from "./knot";

/** Nowhere is shown for an address at which there is nothing. */
export function Nowhere() {
  return (
    <main className="max-w-lg mx-auto pt-20 px-6 pb-10">
      <h1 className="text-3xl mb-1 flex items-center gap-3">
        <Knot className="w-8 h-8" />
        Nothing is here
      </h1>
      <p className="mb-4">
        There is no page at <span className="font-mono break-all">{location.pathname}</span>. Nothing was
        lost.
      </p>
      <Link className="btn btn-sm btn-primary" to="/">
        To your estates
      </Link>
    </main>
  );
}
