// A series is chosen by its button; a line is copied by the button beside it; tables sort by their heads.
"use strict";
document.addEventListener("click", (event) => {
  const one = event.target.closest("button.one");
  if (one) {
    document.querySelectorAll("button.one[aria-current]").forEach((other) => other.removeAttribute("aria-current"));
    one.setAttribute("aria-current", "true");
    // days that were chosen of one series are not meant of the next
    document.querySelectorAll("input.day").forEach((day) => { day.value = ""; Shiny.setInputValue(day.id, ""); });
    Shiny.setInputValue("series", one.dataset.series);
    // where the page is one column, what was chosen stands below the list
    if (window.innerWidth < 768) setTimeout(() => document.getElementById("tab")?.scrollIntoView({ block: "center" }), 400);
  }
  const take = event.target.closest("button.take");
  if (take) {
    const done = () => { take.textContent = "Copied"; setTimeout(() => { take.textContent = "Copy"; }, 1500); };
    navigator.clipboard.writeText(take.dataset.text).then(done, () => { take.textContent = "Select and copy"; });
  }
});
document.addEventListener("change", (event) => {
  if (event.target.matches("input.day")) Shiny.setInputValue(event.target.id, event.target.value);
});
// tables come with what is chosen
new MutationObserver((changes) => {
  for (const change of changes) for (const node of change.addedNodes) {
    if (node.nodeType === 1) for (const box of node.querySelectorAll("div.table:not([data-ready])")) { box.dataset.ready = "yes"; prepareTable(box); }
  }
}).observe(document.body, { childList: true, subtree: true });
