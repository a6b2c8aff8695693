import { Link } from "react-router";
import { type Place, pageOf } from "../../api/place";

/** Where leads to the page of what something is of: a pair, a link or a gateway. */
export function Where({ at, of }: { at: Place; of: { site?: string; link?: string; pair?: string[] } }) {
  const watch = `${pageOf(at)}/watch`;
  const [a = "", b = ""] = of.pair ?? [];
  if (a) {
    return (
      <Link className="link" to={`${watch}/-/pair?${new URLSearchParams({ a, b })}`}>
        {a}, {b}
      </Link>
    );
  }
  if (!of.site) {
    return null;
  }
  return of.link ? (
    <Link className="link" to={`${watch}/-/link?${new URLSearchParams({ site: of.site, link: of.link })}`}>
      {of.site}/{of.link}
    </Link>
  ) : (
    <Link className="link" to={`${watch}/${of.site}`}>
      {of.site}
    </Link>
  );
}
