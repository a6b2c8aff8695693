// Before anything is painted: the theme chosen earlier, else the system's.
(() => {
  let chosen = null;
  try {
    chosen = localStorage.getItem("wideknot-theme");
  } catch {
    // storage may be switched off; the system's theme it is then
  }
  const dark = matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.theme = chosen ?? (dark ? "night" : "paper");
})();
