// before anything is drawn, so that dusk does not flash up as day
try { document.documentElement.dataset.bsTheme = localStorage.getItem("theme") || "light"; } catch { /* storage is off: day it is */ }
