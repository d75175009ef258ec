// Sets the theme before the first paint, and switches it. A classic script on purpose.
(() => {
  const root = document.documentElement;
  const names = { day: "Dusk", dusk: "Day" };
  const put = (theme) => {
    root.dataset.theme = theme;
    for (const button of document.querySelectorAll("[data-theme-switch]")) button.textContent = names[theme];
  };
  put(localStorage.getItem("fern.theme") === "dusk" ? "dusk" : "day");
  document.addEventListener("DOMContentLoaded", () => put(root.dataset.theme));
  document.addEventListener("click", (event) => {
    if (!event.target.closest?.("[data-theme-switch]")) return;
    const next = root.dataset.theme === "dusk" ? "day" : "dusk";
    localStorage.setItem("fern.theme", next);
    put(next);
    document.dispatchEvent(new Event("fern:theme"));
  });
})();
