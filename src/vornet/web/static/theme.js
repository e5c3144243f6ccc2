// Before first paint: the theme chosen here, else the system's.
const chosen = localStorage.getItem("theme");
if (chosen) document.documentElement.dataset.theme = chosen;
