import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answered, client, Problem } from "../../api/client";
import { Field } from "../../parts/field";
import { Knot } from "../../parts/knot";
import { Trouble } from "../../parts/trouble";
import { Waiting } from "../../parts/waiting";

/** Welcome is where a one-time link leads: its holder sets a password. */
export default function Welcome() {
  const [link] = useState(() => location.hash.slice(1));
  const queries = useQueryClient();
  const navigate = useNavigate();
  const invited = useQuery({
    queryKey: ["link"],
    queryFn: () => answered(client.POST("/api/links/check", { body: { link } })),
    retry: false,
  });
  const [form, setForm] = useState({ email: "", name: "", password: "", again: "" });
  const first = invited.data?.first ?? false;
  const use = useMutation({
    mutationFn: () =>
      answered(
        client.POST("/api/links/use", {
          body: {
            link,
            name: form.name,
            password: form.password,
            ...(first ? { email: form.email } : {}),
          },
        }),
      ),
    onSuccess: async () => {
      await queries.resetQueries();
      navigate("/", { replace: true });
    },
  });
  const refused = use.error instanceof Problem ? use.error.fields : {};
  const differs = form.again !== "" && form.again !== form.password;
  const input = (name: keyof typeof form, type: string, complete: string) => (aria: object) => (
    <input
      {...aria}
      className="cell"
      type={type}
      autoComplete={complete}
      required={name !== "name"}
      value={form[name]}
      onChange={(e) => setForm({ ...form, [name]: e.target.value })}
    />
  );
  return (
    <main className="max-w-sm mx-auto pt-20 px-6 pb-10">
      <h1 className="text-3xl mb-1 flex items-center gap-3">
        <Knot className="w-8 h-8" />
        Welcome
      </h1>
      {invited.isPending ? <Waiting what="your invitation" /> : null}
      <Trouble error={invited.error} />
      {invited.data ? (
        <form
          className="space-y-3"
          onSubmit={(e) => {
            e.preventDefault();
            if (!differs) {
              use.mutate();
            }
          }}
        >
          <p className="mb-4">
            {first ? (
              "This server has no administrator yet. You will be the first: choose how you sign in."
            ) : (
              <>
                Choose the password with which <span className="font-mono">{invited.data.email}</span> signs
                in.
              </>
            )}
          </p>
          {first ? (
            <Field label="Your e-mail address" error={refused.email}>
              {input("email", "email", "username")}
            </Field>
          ) : null}
          <Field label="Your name">{input("name", "text", "name")}</Field>
          <Field label="Password, at least 12 characters" error={refused.password}>
            {input("password", "password", "new-password")}
          </Field>
          <Field label="The same again" error={differs ? "The two differ." : undefined}>
            {input("again", "password", "new-password")}
          </Field>
          <Trouble error={use.error} />
          <button type="submit" className="btn btn-primary btn-sm w-full" disabled={use.isPending || differs}>
            Set the password and sign in
          </button>
        </form>
      ) : null}
    </main>
  );
}
