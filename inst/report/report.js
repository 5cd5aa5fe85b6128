// Tables that sort, search and save themselves; figures that tell the value under the pointer.
"use strict";
for (const box of document.querySelectorAll("div.table")) {
  const body = box.querySelector("tbody");
  const rows = Array.from(body.rows);
  const count = box.querySelector(".count");
  const search = box.querySelector("input");
  const shown = () => Array.from(body.rows).filter((row) => !row.hidden);
  const tell = () => { if (count) count.textContent = shown().length + " of " + rows.length + " rows"; };
  const key = (row, i) => {
    const cell = row.cells[i];
    return cell.dataset.sort === undefined ? cell.textContent.toLowerCase() : cell.dataset.sort === "" ? null : Number(cell.dataset.sort);
  };
  box.querySelectorAll("th").forEach((head, i) => {
    head.querySelector("button").addEventListener("click", () => {
      const up = head.getAttribute("aria-sort") !== "ascending";
      box.querySelectorAll("th").forEach((other) => other.removeAttribute("aria-sort"));
      head.setAttribute("aria-sort", up ? "ascending" : "descending");
      const sorted = Array.from(body.rows).map((row) => [key(row, i), row]);
      // what is missing stands last, whichever way
      sorted.sort((a, b) => a[0] === null ? 1 : b[0] === null ? -1 : (a[0] < b[0] ? -1 : a[0] > b[0] ? 1 : 0) * (up ? 1 : -1));
      for (const pair of sorted) body.append(pair[1]);
    });
  });
  if (search) search.addEventListener("input", () => {
    const words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const row of rows) row.hidden = !words.every((word) => row.textContent.toLowerCase().includes(word));
    tell();
  });
  const csv = box.querySelector(".csv");
  if (csv) csv.addEventListener("click", () => {
    // a text that a spreadsheet would run gets an apostrophe in front
    const quote = (text) => '"' + (/^[=@\t\r]|^[+-](?![0-9.,]+$)/.test(text) ? "'" : "") + text.replaceAll('"', '""') + '"';
    const line = (cells) => Array.from(cells).map((cell) => {
      const link = cell.querySelector("a");
      // numbers as they are, and not as they are read
      const number = cell.classList.contains("number") && cell.dataset.sort !== undefined;
      return quote(link ? link.href : number ? cell.dataset.sort : cell.textContent.trim());
    }).join(",");
    const lines = [line(box.querySelectorAll("th"))].concat(shown().map((row) => line(row.cells)));
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([lines.join("\n") + "\n"], { type: "text/csv" }));
    link.download = box.dataset.name + ".csv";
    link.click();
    URL.revokeObjectURL(link.href);
  });
  tell();
}
for (const figure of document.querySelectorAll("figure.drawn")) {
  const data = figure.querySelector('script[type="application/json"]');
  if (!data) continue;
  const told = JSON.parse(data.textContent);
  const svg = figure.querySelector("svg");
  const caption = figure.querySelector(".told");
  const rule = document.createElementNS("http://www.w3.org/2000/svg", "line");
  rule.setAttribute("stroke", "#5b6675");
  rule.setAttribute("stroke-dasharray", "3 3");
  rule.setAttribute("visibility", "hidden");
  svg.append(rule);
  const nearest = (xs, x) => {
    let low = 0, high = xs.length - 1;
    while (high - low > 1) { const middle = (low + high) >> 1; if (xs[middle] < x) low = middle; else high = middle; }
    return x - xs[low] <= xs[high] - x ? low : high;
  };
  let here = null;
  const show = (panel, x) => {
    const [left, top, , height] = told.panels[panel];
    const parts = told.series.filter((one) => told.panels.length === 1 || one.panel === panel + 1).map((one) => {
      const i = nearest(one.x, x);
      return { name: one.name, time: one.time[i], text: one.value[i].toLocaleString("en") + (one.status[i] ? " (" + one.status[i] + ")" : ""), x: one.x[i] };
    });
    if (!parts.length) return;
    here = { panel, x: parts[0].x };
    rule.setAttribute("x1", parts[0].x); rule.setAttribute("x2", parts[0].x);
    rule.setAttribute("y1", top); rule.setAttribute("y2", top + height);
    rule.setAttribute("visibility", "visible");
    caption.textContent = parts[0].time + "   " + parts.map((part) => part.name + " " + part.text).join("   ");
  };
  svg.addEventListener("pointermove", (event) => {
    const box = svg.getBoundingClientRect();
    const view = svg.viewBox.baseVal;
    const x = (event.clientX - box.left) * view.width / box.width;
    const y = (event.clientY - box.top) * view.height / box.height;
    const panel = told.panels.findIndex(([left, top, width, height]) => x >= left && x <= left + width && y >= top && y <= top + height);
    if (panel >= 0) show(panel, x);
  });
  // by the keyboard: a value further with each arrow
  figure.addEventListener("keydown", (event) => {
    const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (!step) return;
    event.preventDefault();
    const panel = here ? here.panel : 0;
    const one = told.series.find((series) => told.panels.length === 1 || series.panel === panel + 1);
    if (!one) return;
    const i = here ? nearest(one.x, here.x) : one.x.length - 1;
    show(panel, one.x[Math.min(one.x.length - 1, Math.max(0, i + (here ? step : 0)))]);
  });
}
