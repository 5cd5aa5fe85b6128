// Series are chosen and compared by their buttons, datasets opened by theirs;
// a line is copied by the button beside it.
"use strict";
const toggle = (id, add) => Shiny.setInputValue("toggle", { id, add }, { priority: "event" });
document.addEventListener("click", (event) => {
  const at = (selector) => event.target.closest(selector);
  const branch = at("button.branch"), one = at("button.one"), add = at("button.add"), drop = at("button.drop"), take = at("button.take");
  if (branch) Shiny.setInputValue("open", { id: branch.dataset.open }, { priority: "event" });
  if (one) {
    toggle(one.dataset.series, event.ctrlKey || event.metaKey);
    // where the page is one column, what was chosen stands below the tree
    if (window.innerWidth < 768) setTimeout(() => document.getElementById("main")?.scrollIntoView(), 400);
  }
  if (add) toggle(add.dataset.series, true);
  if (drop) toggle(drop.dataset.series, true);
  if (take) {
    const done = () => { take.textContent = "Copied"; setTimeout(() => { take.textContent = "Copy"; }, 1500); };
    navigator.clipboard.writeText(take.dataset.text).then(done, () => { take.textContent = "Select and copy"; });
  }
});
document.addEventListener("change", (event) => {
  if (event.target.matches("input.day")) Shiny.setInputValue(event.target.id, event.target.value);
});
// the tree is drawn anew after a choice: the focus stays on its button
let focused = null;
document.addEventListener("focusin", (event) => {
  const button = event.target.closest("#tree button");
  if (button) focused = { name: button.className, series: button.dataset.series, open: button.dataset.open };
  else if (event.target !== document.body) focused = null;
});
$(document).on("shiny:value", (event) => {
  if (event.name !== "tree" || !focused) return;
  const wanted = focused;
  setTimeout(() => {
    for (const button of document.querySelectorAll("#tree button")) {
      if (button.className === wanted.name && button.dataset.series === wanted.series && button.dataset.open === wanted.open) button.focus();
    }
  }, 50);
});
$(document).on("shiny:connected", () => {
  Shiny.addCustomMessageHandler("days", (days) => {
    for (const [id, value] of Object.entries(days)) {
      const input = document.getElementById(id);
      if (input) input.value = value;
      Shiny.setInputValue(id, value);
    }
  });
});
new MutationObserver(() => setTimeout(arrange, 150)).observe(document.documentElement, { childList: true, subtree: true });
