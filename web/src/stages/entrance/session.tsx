import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Outlet } from "react-router";
import { Problem, SIGNED_OUT } from "../../api/client";
import { useMe } from "../../api/queries";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";
import { SignIn } from "./sign-in";
import { SignInForm } from "./sign-in-form";

/**
 * Session lets nobody in who is not signed in. When a session ends while
 * someone works, the page stays as it is and a sheet over it asks to sign in
 * again.
 */
export function Session() {
  const me = useMe();
  const queries = useQueryClient();
  const [ended, setEnded] = useState(false);
  const known = !!me.data;
  useEffect(() => {
    const end = () => setEnded(true);
    addEventListener(SIGNED_OUT, end);
    return () => removeEventListener(SIGNED_OUT, end);
  }, []);
  if (me.isPending) {
    return <Waiting what="who you are" />;
  }
  if (!known) {
    return me.error instanceof Problem && me.error.status === 401 ? (
      <SignIn onDone={() => queries.resetQueries()} />
    ) : (
      <main className="p-8 max-w-2xl">
        <Trouble error={me.error} />
        <button type="button" className="btn btn-sm" onClick={() => me.refetch()}>
          Try again
        </button>
      </main>
    );
  }
  return (
    <>
      <Outlet />
      {ended ? (
        <Again
          onDone={() => {
            setEnded(false);
            queries.invalidateQueries();
          }}
        />
      ) : null}
    </>
  );
}

function Again({ onDone }: { onDone: () => void }) {
  const sheet = useRef<HTMLDialogElement>(null);
  useEffect(() => sheet.current?.showModal(), []);
  return (
    <dialog ref={sheet} className="modal" aria-labelledby="again">
      <div className="modal-box border border-base-content max-w-md">
        <h2 id="again" className="text-xl mb-1">
          Your session has ended
        </h2>
        <p className="mb-3">Sign in again to go on. What you entered is still on the page behind.</p>
        <SignInForm onDone={onDone} />
      </div>
    </dialog>
  );
}
