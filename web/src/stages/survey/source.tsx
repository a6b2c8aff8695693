import { useId, useRef, useState } from "react";

/** What spreadsheets write, by its mark or by trying: UTF-8, UTF-16, else Windows' Latin. */
function decode(bytes: ArrayBuffer): string {
  const head = new Uint8Array(bytes.slice(0, 2));
  if ((head[0] === 0xff && head[1] === 0xfe) || (head[0] === 0xfe && head[1] === 0xff)) {
    return new TextDecoder(head[0] === 0xff ? "utf-16le" : "utf-16be").decode(bytes);
  }
  try {
    return new TextDecoder("utf-8", { fatal: true }).decode(bytes);
  } catch {
    return new TextDecoder("windows-1252").decode(bytes);
  }
}

/** A text box slows down with megabytes in it; beyond this only the first lines are shown. */
const SHOWN = 200_000;

/** Source takes a text: pasted, typed, chosen as a file, or dropped. */
export function Source(props: {
  name: string;
  accept: string;
  example: string;
  text: string;
  onText: (text: string) => void;
}) {
  const id = useId();
  const chooser = useRef<HTMLInputElement>(null);
  const [file, setFile] = useState("");
  const [over, setOver] = useState(false);
  const read = async (chosen: File | undefined) => {
    if (chosen) {
      setFile(chosen.name);
      props.onText(decode(await chosen.arrayBuffer()));
    }
  };
  const lines = props.text ? props.text.split("\n").filter((l) => l.trim()).length : 0;
  const large = props.text.length > SHOWN;
  return (
    <div className="min-w-0">
      <div className="flex items-baseline gap-2 mb-1">
        <label htmlFor={id} className="font-semibold">
          {props.name}
        </label>
        <span className="text-xs text-secondary truncate">
          {file} {lines ? `${lines} lines` : ""}
        </span>
        <button type="button" className="btn btn-xs ml-auto" onClick={() => chooser.current?.click()}>
          Choose a file
        </button>
        <input
          ref={chooser}
          type="file"
          accept={props.accept}
          className="hidden"
          aria-label={`File for ${props.name}`}
          onChange={(e) => {
            read(e.target.files?.[0]);
            e.target.value = "";
          }}
        />
      </div>
      <textarea
        id={id}
        className={`w-full h-36 font-mono text-xs p-2 bg-transparent border ${over ? "border-primary border-2" : "border-base-300"}`}
        wrap="off"
        spellCheck={false}
        readOnly={large}
        placeholder={`Paste rows here, or drop a file.\n\n${props.example}`}
        value={large ? `${props.text.slice(0, 4000)}\n…` : props.text}
        onChange={(e) => {
          setFile("");
          props.onText(e.target.value);
        }}
        onDragOver={(e) => {
          e.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={(e) => {
          e.preventDefault();
          setOver(false);
          read(e.dataTransfer.files[0]);
        }}
      />
    </div>
  );
}
