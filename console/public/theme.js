// Before the first paint, so that a dark page never flashes light.
(() => {
  const chosen = localStorage.getItem("plumcrate-theme");
  const dark = chosen ? chosen === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.theme = dark ? "dark" : "light";
})();
