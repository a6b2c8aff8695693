import { useSearchParams } from "react-router";
import { Knot } from "../../parts/knot";
import { SignInForm } from "./sign-in-form";

/** SignIn is the page for whoever is not signed in. */
export function SignIn({ onDone }: { onDone: () => void }) {
  const [params] = useSearchParams();
  const problem = params.get("problem");
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
