import { useSearchParams } from "react-router";
import { Knot } from "../../parts/knot";
import { SignInForm } from "./sign-in-form";

/** What the server may say of a sign-in by the provider, by the word it puts into the address. */
const problems: Record<string, string> = {
  away: "Your provider cannot be reached at the moment. Try again, or sign in with a password.",
  refused: "Your provider did not sign you in.",
  journey: "This sign-in was not begun in this browser, or took too long. Begin again.",
  unknown: "There is no account for you here. Ask an administrator, or an owner of an estate, to add it.",
  unverified: "Your provider does not vouch for your e-mail address, so no account can be found by it.",
  closed: "Your account is closed.",
  database: "The database does not answer at the moment. Try again.",
};

/** SignIn is the page for whoever is not signed in. */
export function SignIn({ onDone }: { onDone: () => void }) {
  const [params] = useSearchParams();
  const problem = problems[params.get("problem") ?? ""];
  return (
    <main className="max-w-sm mx-auto pt-20 px-6 pb-10">
      <h1 className="text-3xl mb-1 flex items-center gap-3">
        <Knot className="w-8 h-8" />
        Wide Knot
      </h1>
      <p className="text-secondary mb-6">Sign in to see your estates.</p>
      {problem ? (
        <p role="alert" className="border-l-4 border-error bg-error/10 px-3 py-2 mb-3">
          <strong className="text-error">■ Not signed in.</strong> {problem}
        </p>
      ) : null}
      <SignInForm onDone={onDone} />
      <p className="text-xs text-secondary mt-6">
        Forgot the password? An administrator can make a link to set a new one.
      </p>
    </main>
  );
}
