import { type ReactNode, useId } from "react";

/** Field is an input with its label and, when its value was refused, the reason beside it. */
export function Field({
  label,
  error,
  children,
}: {
  label: string;
  error?: string;
  children: (props: { id: string; "aria-invalid": boolean; "aria-describedby"?: string }) => ReactNode;
}) {
  const id = useId();
  return (
    <div className="min-w-0">
      <label htmlFor={id} className="text-xs text-secondary block">
        {label}
      </label>
      {children({
        id,
        "aria-invalid": Boolean(error),
        "aria-describedby": error ? `${id}-error` : undefined,
      })}
      {error ? <Refusal id={`${id}-error`} message={error} /> : null}
    </div>
  );
}

/** Refusal is the reason why a value was not taken. */
export function Refusal({ id, message }: { id?: string; message: string }) {
  return (
    <p id={id} className="text-error text-xs mt-0.5">
      ■ {message}
    </p>
  );
}

/** MomentField is a moment in the reader's own time, empty for none. */
export function MomentField(props: {
  label: string;
  error?: string;
  value: string;
  onChange: (value: string) => void;
}) {
  return (
    <Field label={props.label} error={props.error}>
      {(aria) => (
        <input
          {...aria}
          type="datetime-local"
          className="cell w-52"
          value={props.value}
          onChange={(e) => props.onChange(e.target.value)}
        />
      )}
    </Field>
  );
}
