// Before the first paint: the theme that was chosen, or that of the system.
(() => {
  const set = name => document.documentElement.setAttribute("data-bs-theme", name);
  const stored = localStorage.getItem("loom-theme");
  set(stored || (matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light"));
  window.switchTheme = () => {
    const next = document.documentElement.getAttribute("data-bs-theme") === "dark" ? "light" : "dark";
    localStorage.setItem("loom-theme", next);
    set(next);
  };
})();
