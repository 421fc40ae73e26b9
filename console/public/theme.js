// Before the first paint, so that a dark page never flashes light.
(() => {
  let chosen = null;
  try {
    chosen = localStorage.getItem("plumcrate-theme");
  } catch {
    // The browser keeps nothing for us: its own setting counts.
  }
  const dark = chosen ? chosen === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.theme = dark ? "dark" : "light";
})();
