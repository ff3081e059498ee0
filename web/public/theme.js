// Before the first paint, so that night does not begin with a flash of day.
(function () {
  var kept = null;
  try { kept = localStorage.getItem("theme"); } catch (e) { /* no storage: follow the system */ }
  var night = kept ? kept === "night" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.theme = night ? "night" : "day";
})();
