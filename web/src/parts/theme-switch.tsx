import { useState } from "react";

/** ThemeSwitch changes between the light and the dark theme, for good. */
export function ThemeSwitch() {
  const [theme, setTheme] = useState(document.documentElement.dataset.theme ?? "paper");
  const other = theme === "paper" ? "night" : "paper";
  return (
    <button
      type="button"
      className="link link-hover"
      onClick={() => {
        document.documentElement.dataset.theme = other;
        try {
          localStorage.setItem("wideknot-theme", other);
        } catch {
          // storage may be switched off; the theme lasts as long as the page
        }
        setTheme(other);
      }}
    >
      {other === "night" ? "Dark theme" : "Light theme"}
    </button>
  );
}
