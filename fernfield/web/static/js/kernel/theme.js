// Sets the theme before the first paint, and switches it. A classic script on purpose.
(() => {
  const root = document.documentElement;
  /** @type {Record<string, string>} */
  const names = { day: "Dusk", dusk: "Day" };
  const put = (/** @type {string} */ theme) => {
    root.dataset.theme = theme;
    root.dataset.bsTheme = theme === "dusk" ? "dark" : "light";
    for (const button of document.querySelectorAll("[data-theme-switch]")) button.textContent = names[theme];
  };
  // Whoever has not chosen gets what their system is set to.
  const dark = matchMedia("(prefers-color-scheme: dark)");
  const theme = () => localStorage.getItem("fern.theme") || (dark.matches ? "dusk" : "day");
  put(theme());
  dark.addEventListener("change", () => {
    put(theme());
    document.dispatchEvent(new Event("fern:theme"));
  });
  document.addEventListener("DOMContentLoaded", () => put(root.dataset.theme || "day"));
  document.addEventListener("click", (event) => {
    if (!(event.target instanceof Element) || !event.target.closest("[data-theme-switch]")) return;
    const next = root.dataset.theme === "dusk" ? "day" : "dusk";
    localStorage.setItem("fern.theme", next);
    put(next);
    document.dispatchEvent(new Event("fern:theme"));
  });
})();
