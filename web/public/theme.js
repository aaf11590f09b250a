// Runs before the page is drawn, so that it is drawn once in the right theme.
(function () {
  var chosen = localStorage.getItem("theme");
  var dark = chosen ? chosen === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.theme = dark ? "dark" : "light";
})();
