import { Field } from "./field";

/** Choice is a labelled list to choose one from: its values with the words for them. */
export function Choice(props: {
  label: string;
  error?: string;
  value: string;
  of: Record<string, string>;
  className?: string;
  onChoose: (value: string) => void;
}) {
  return (
    <Field label={props.label} error={props.error}>
      {(aria) => (
        <select
          {...aria}
          className={`cell ${props.className ?? ""}`}
          value={props.value}
          onChange={(e) => props.onChoose(e.target.value)}
        >
          {Object.entries(props.of).map(([value, words]) => (
            <option key={value} value={value}>
              {words}
            </option>
          ))}
        </select>
      )}
    </Field>
  );
}
