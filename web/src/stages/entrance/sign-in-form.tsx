import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answered, client } from "../../api/client";
import { useEntrance } from "../../api/queries";
import { Field } from "../../parts/field";
import { Trouble } from "../../parts/trouble";

/** SignInForm asks for e-mail address and password, or leads to the provider. */
export function SignInForm({ onDone }: { onDone: () => void }) {
  const entrance = useEntrance();
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const enter = useMutation({
    mutationFn: () => answered(client.POST("/api/session", { body: { email, password } })),
    onSuccess: () => {
      setPassword("");
      onDone();
    },
  });
  const demo = entrance.data?.demo;
  return (
    <>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        <Field label="E-mail address">
          {(aria) => (
            <input
              {...aria}
              className="cell"
              type="email"
              autoComplete="username"
              required
              value={email}
              onChange={(e) => setEmail(e.target.value)}
            />
          )}
        </Field>
        <Field label="Password">
          {(aria) => (
            <input
              {...aria}
              className="cell"
              type="password"
              autoComplete="current-password"
              required
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
          )}
        </Field>
        <Trouble error={enter.error} />
        <button type="submit" className="btn btn-primary btn-sm w-full" disabled={enter.isPending}>
          {enter.isPending ? "Signing in …" : "Sign in"}
        </button>
      </form>
      {entrance.data?.provider ? (
        <a
          className="btn btn-sm w-full mt-2"
          href={`/api/provider/depart?to=${encodeURIComponent(location.pathname + location.search)}`}
        >
          Sign in with {entrance.data.provider}
        </a>
      ) : null}
      {demo ? (
        <section className="mt-6 border border-base-300 bg-base-200 p-3 text-[13px]">
          <h2 className="font-sans font-semibold mb-1">This is the demo</h2>
          <p className="mb-2">Everybody knows its password, {`“${demo.password}”`}. Look at it as</p>
          <ul className="space-y-1">
            {[demo.email, ...demo.others].map((one) => (
              <li key={one}>
                <button
                  type="button"
                  className="link link-primary font-mono"
                  onClick={() => {
                    setEmail(one);
                    setPassword(demo.password);
                  }}
                >
                  {one}
                </button>
              </li>
            ))}
          </ul>
        </section>
      ) : null}
    </>
  );
}
