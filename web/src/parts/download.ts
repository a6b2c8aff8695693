import { Problem } from "../api/client";

/** Fetches a file with a POST and hands it to the browser to save. */
export async function download(url: string, body: unknown) {
  const response = await fetch(url, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(body),
  });
  if (!response.ok) {
    throw new Problem(await response.json().catch(() => undefined), response.status);
  }
  const name = /filename="([^"]+)"/.exec(response.headers.get("Content-Disposition") ?? "")?.[1];
  save(await response.blob(), name ?? "download");
}

/** Hands a file to the browser to save. */
export function save(content: Blob, name: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(content);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}
