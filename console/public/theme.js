// Sets the theme before anything is drawn.
(() => {
  const chosen = localStorage.getItem("theme");
  const night = chosen ? chosen === "night" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.classList.toggle("night", night);
})();
