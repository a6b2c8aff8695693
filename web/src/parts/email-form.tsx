import { type ReactNode, useState } from "react";

/** EmailForm asks for somebody's address, and for what children ask besides. */
export function EmailForm(props: {
  label: string;
  action: string;
  busy: boolean;
  /** Adds somebody; done is called when that worked. */
  onAdd: (email: string, done: () => void) => void;
  className?: string;
  children?: ReactNode;
}) {
  const [email, setEmail] = useState("");
  return (
    <form
      className={`flex gap-2 items-end ${props.className ?? ""}`}
      onSubmit={(e) => {
        e.preventDefault();
        props.onAdd(email, () => setEmail(""));
      }}
    >
      <label className="grow text-xs text-secondary">
        {props.label}
        <input
          className="cell text-base-content"
          type="email"
          value={email}
          onChange={(e) => setEmail(e.target.value)}
        />
      </label>
      {props.children}
      <button type="submit" className="btn btn-sm btn-primary" disabled={!email.trim() || props.busy}>
        {props.action}
      </button>
    </form>
  );
}
