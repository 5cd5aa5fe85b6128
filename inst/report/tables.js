// Tables that sort, filter and save themselves.
"use strict";
function prepareTable(box) {
  const body = box.querySelector("tbody");
  const rows = Array.from(body.rows);
  const heads = Array.from(box.querySelectorAll("th"));
  const count = box.querySelector(".count");
  const search = box.querySelector("input[type=search]");
  const tools = box.querySelector(".tools");
  const shown = () => Array.from(body.rows).filter((row) => !row.hidden);
  const tell = () => { if (count) count.textContent = shown().length + " of " + rows.length + " rows"; };
  const key = (row, i) => {
    const cell = row.cells[i];
    return cell.dataset.sort === undefined ? cell.textContent.toLowerCase() : cell.dataset.sort === "" ? null : Number(cell.dataset.sort);
  };
  heads.forEach((head, i) => {
    head.querySelector("button").addEventListener("click", () => {
      const up = head.getAttribute("aria-sort") !== "ascending";
      heads.forEach((other) => other.removeAttribute("aria-sort"));
      head.setAttribute("aria-sort", up ? "ascending" : "descending");
      const sorted = Array.from(body.rows).map((row) => [key(row, i), row]);
      // what is missing stands last, whichever way
      sorted.sort((a, b) => a[0] === null ? 1 : b[0] === null ? -1 : (a[0] < b[0] ? -1 : a[0] > b[0] ? 1 : 0) * (up ? 1 : -1));
      for (const pair of sorted) body.append(pair[1]);
    });
  });
  // a column of few kinds can be chosen from, the first one of days has a range
  const chosen = [];
  const label = (text, control) => {
    const element = document.createElement("label");
    element.append(text + " ", control);
    tools.insertBefore(element, tools.querySelector(".csv"));
    control.addEventListener("input", sift);
  };
  const day = /^\d{4}-\d\d-\d\d/;
  let dated = false;
  if (tools && search) heads.forEach((head, i) => {
    const name = head.textContent.trim();
    const texts = rows.map((row) => row.cells[i].textContent.trim());
    const full = texts.filter(Boolean);
    const kinds = Array.from(new Set(full)).sort();
    if (full.length && full.every((text) => day.test(text))) {
      if (dated || kinds.length < 2) return;
      dated = true;
      for (const bound of ["from", "to"]) {
        const input = document.createElement("input");
        input.type = "date";
        input.dataset.filter = name + " " + bound;
        label(name + " " + bound, input);
        chosen.push((row) => {
          const text = row.cells[i].textContent.trim().slice(0, 10);
          return !input.value || (text && (bound === "from" ? text >= input.value : text <= input.value));
        });
      }
    } else if (!head.classList.contains("number") && kinds.length > 1 && kinds.length <= 12 && full.length >= 2 * kinds.length) {
      const select = document.createElement("select");
      select.dataset.filter = name;
      for (const kind of [""].concat(kinds)) select.append(new Option(kind || "all", kind));
      label(name, select);
      chosen.push((row) => !select.value || row.cells[i].textContent.trim() === select.value);
    }
  });
  function sift() {
    const words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const row of rows) {
      const text = row.textContent.toLowerCase();
      row.hidden = !(words.every((word) => text.includes(word)) && chosen.every((test) => test(row)));
    }
    tell();
  }
  if (search) search.addEventListener("input", sift);
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
    const lines = [line(heads)].concat(shown().map((row) => line(row.cells)));
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([lines.join("\n") + "\n"], { type: "text/csv" }));
    link.download = box.dataset.name + ".csv";
    link.click();
    URL.revokeObjectURL(link.href);
  });
  tell();
}
for (const box of document.querySelectorAll("div.table")) prepareTable(box);
