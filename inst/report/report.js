// Figures that tell the value under the pointer, and draw a part of their time larger.
"use strict";
const svgElement = (name, attributes, text) => {
  const element = document.createElementNS("http://www.w3.org/2000/svg", name);
  for (const key in attributes) element.setAttribute(key, attributes[key]);
  if (text !== undefined) element.textContent = text;
  return element;
};
const said = (number) => number === null ? "-" : number.toLocaleString("en", { maximumSignificantDigits: 8 });
const nearest = (xs, x) => {
  let low = 0, high = xs.length - 1;
  while (high - low > 1) { const middle = (low + high) >> 1; if (xs[middle] < x) low = middle; else high = middle; }
  return x - xs[low] <= xs[high] - x ? low : high;
};
const niceTicks = (low, high) => {
  const raw = (high - low) / 5, base = 10 ** Math.floor(Math.log10(raw));
  const step = [1, 2, 5, 10].map((k) => k * base).find((k) => k >= raw);
  const ticks = [];
  for (let at = Math.ceil(low / step); at * step <= high; at++) ticks.push(at * step);
  return ticks;
};
for (const figure of document.querySelectorAll("figure.drawn")) {
  const data = figure.querySelector('script[type="application/json"]');
  if (!data) continue;
  const content = JSON.parse(data.textContent);
  const whole = figure.querySelector("svg");
  const caption = figure.querySelector(".readout");
  const box = whole.viewBox.baseVal;
  const paper = svgElement("svg", { viewBox: `0 0 ${box.width} ${box.height}`, class: "part", role: "img", "aria-label": whole.getAttribute("aria-label") + ", a part of it" });
  paper.style.display = "none";
  whole.after(paper);
  let view = [0, 1];
  let here = null;
  const isWhole = () => view[0] === 0 && view[1] === 1;
  const panelOf = (one) => content.panels[one.panel - 1] || content.panels[0];
  // places as parts of their panel's width
  for (const one of content.series) {
    const [left, , width] = panelOf(one);
    one.part = one.x.map((x) => (x - left) / width);
  }
  const place = (one, i) => {
    const [left, , width] = panelOf(one);
    return left + (one.part[i] - view[0]) / (view[1] - view[0]) * width;
  };
  const inView = (one) => one.part.map((part, i) => i).filter((i) => one.part[i] >= view[0] && one.part[i] <= view[1]);
  const rule = svgElement("line", { stroke: "#5b6675", "stroke-dasharray": "3 3", visibility: "hidden" });
  const band = svgElement("rect", { fill: "#0b5a8a", "fill-opacity": 0.15, visibility: "hidden" });
  const active = () => isWhole() ? whole : paper;
  const seat = () => active().append(band, rule);
  seat();

  const show = (number, x) => {
    const [, top, , height] = content.panels[number];
    const own = content.series.filter((one) => content.panels.length === 1 || one.panel === number + 1 || content.series.length === 1);
    const parts = own.filter((one) => one.x.length).map((one) => {
      const [left, , width] = panelOf(one);
      const i = nearest(one.part, view[0] + (x - left) / width * (view[1] - view[0]));
      const mark = (one.status || [])[i] ? " (" + (one.status || [])[i] + ")" : "";
      const text = one.low ? `open ${said(one.open[i])}, high ${said(one.high[i])}, low ${said(one.low[i])}, close ${said(one.value[i])}` + (one.volume ? `, volume ${said(one.volume[i])}` : "") : said(one.value[i]);
      return { name: one.name, time: one.time[i], text: text + mark, x: place(one, i), i };
    });
    if (!parts.length) return;
    here = { number, i: parts[0].i };
    for (const [key, value] of Object.entries({ x1: parts[0].x, x2: parts[0].x, y1: top, y2: top + height, visibility: "visible" })) rule.setAttribute(key, value);
    caption.textContent = parts[0].time + "   " + parts.map((part) => part.name + " " + part.text).join("   ");
  };

  // the part that is looked at, with axes of its own
  const draw = () => {
    paper.replaceChildren(svgElement("rect", { width: "100%", height: "100%", fill: "#ffffff" }));
    paper.append(svgElement("text", { x: 12, y: 26, "font-size": 15, "font-weight": 600, fill: "#1c2430" }, figure.dataset.title || ""));
    content.panels.forEach((panel, number) => {
      const [left, top, width, height] = panel;
      const strip = content.series.length === 1 && content.series[0].low && number === 1;
      const own = strip ? content.series.slice(0, 1) : content.series.filter((one) => content.panels.length === 1 || one.panel === number + 1);
      const seen = own.map((one) => inView(one));
      let low = Infinity, high = -Infinity;
      own.forEach((one, k) => seen[k].forEach((i) => {
        const values = strip ? [0, one.volume ? one.volume[i] : 0] : one.low ? [one.low[i], one.high[i]] : [one.value[i]];
        for (const value of values) if (value !== null) { low = Math.min(low, value); high = Math.max(high, value); }
      }));
      if (!(high >= low)) { paper.append(svgElement("text", { x: left + 8, y: top + 20, "font-size": 12, fill: "#5b6675" }, "nothing here")); return; }
      if (high === low) { const room = Math.abs(high) * 0.01 || 1; low -= room; high += room; }
      const scale = content.log && low > 0 ? Math.log10 : (value) => value;
      const room = strip ? 0 : (scale(high) - scale(low)) * 0.04;
      const y = (value) => top + height - (scale(value) - scale(low) + room) / (scale(high) - scale(low) + 2 * room) * height;
      for (const tick of niceTicks(low, high)) {
        paper.append(svgElement("line", { x1: left, x2: left + width, y1: y(tick), y2: y(tick), stroke: "#e4e8ee" }));
        paper.append(svgElement("text", { x: left - 6, y: y(tick) + 4, "text-anchor": "end", "font-size": 11, fill: "#5b6675" }, said(Number(tick.toPrecision(6)))));
      }
      if (content.panels.length > 1 && !strip && own.length && !own[0].low) paper.append(svgElement("text", { x: left, y: top - 5, "font-size": 12, "font-weight": 600, fill: "#1c2430" }, own.map((one) => one.name).join(", ")));
      own.forEach((one, k) => {
        const step = one.part.length > 1 ? (one.part[one.part.length - 1] - one.part[0]) / (one.part.length - 1) : 0.1;
        const wide = Math.max(1, step / (view[1] - view[0]) * width * 0.68);
        if (strip && one.volume) for (const i of seen[k]) {
          if (one.volume[i] !== null) paper.append(svgElement("rect", { x: place(one, i) - wide / 2, width: wide, y: y(one.volume[i]), height: Math.max(0, y(0) - y(one.volume[i])), fill: "#9aa5b3" }));
        } else if (one.low) for (const i of seen[k]) {
          const up = one.value[i] >= one.open[i], colour = up ? content.colours[0] : content.colours[1], x = place(one, i);
          paper.append(svgElement("line", { x1: x, x2: x, y1: y(one.high[i]), y2: y(one.low[i]), stroke: colour }));
          const at = y(Math.max(one.open[i], one.value[i]));
          paper.append(svgElement("rect", { x: x - wide / 2, width: wide, y: at, height: Math.max(1, y(Math.min(one.open[i], one.value[i])) - at), stroke: colour, fill: up ? "#ffffff" : colour }));
        } else {
          const breaks = new Set(one.breaks);
          const path = seen[k].map((i, j) => (j === 0 || breaks.has(i) ? "M" : "L") + place(one, i).toFixed(1) + " " + y(one.value[i]).toFixed(1)).join("");
          paper.append(svgElement("path", { d: path, fill: "none", stroke: one.colour, "stroke-width": 1.4 }));
          if (seen[k].length < 60) for (const i of seen[k]) paper.append(svgElement("circle", { cx: place(one, i), cy: y(one.value[i]), r: 2.4, fill: (one.status || [])[i] === "filled" ? "#ffffff" : one.colour, stroke: one.colour }));
        }
      });
      // times under the lowest panel of each column, told by what changes
      if (content.panels.some((other) => Math.abs(other[0] - left) < 2 && other[1] > top + 1)) return;
      const first = own[0], marks = seen[0] || [];
      const days = marks.length && first.time[marks[0]].slice(0, 10) === first.time[marks[marks.length - 1]].slice(0, 10);
      const labels = Math.min(marks.length, Math.max(2, Math.floor(width / 110)));
      for (let j = 0; j < labels; j++) {
        const i = marks[labels === 1 ? 0 : Math.round(j * (marks.length - 1) / (labels - 1))];
        paper.append(svgElement("text", { x: place(first, i), y: top + height + 18, "text-anchor": "middle", "font-size": 11, fill: "#5b6675" }, days ? first.time[i].slice(11) : first.time[i].slice(0, 10)));
      }
    });
    if (content.panels.length === 1 && content.series.length > 1) content.series.forEach((one, k) => paper.append(svgElement("text", { x: 12 + 170 * k, y: 46, "font-size": 12, fill: one.colour }, "\u2014 " + one.name)));
  };
  const look = (a, b) => {
    view = b - a < 1e-6 ? [0, 1] : [Math.max(0, a), Math.min(1, b)];
    if (!isWhole()) draw();
    whole.style.display = isWhole() ? "" : "none";
    paper.style.display = isWhole() ? "none" : "";
    reset.disabled = isWhole();
    rule.setAttribute("visibility", "hidden");
    seat();
  };

  // a range of days, by hand
  const tools = document.createElement("p");
  tools.className = "tools";
  const bounds = ["From", "To"].map((word) => {
    const label = document.createElement("label"), input = document.createElement("input");
    input.type = "date";
    label.append(word + " ", input);
    tools.append(label);
    return input;
  });
  const reset = document.createElement("button");
  reset.textContent = "Whole time";
  reset.disabled = true;
  const count = document.createElement("span");
  count.className = "soft";
  count.textContent = "drag over the figure to look closer";
  tools.append(reset, count);
  figure.before(tools);
  const days = content.series.flatMap((one) => one.time.length ? [one.time[0].slice(0, 10), one.time[one.time.length - 1].slice(0, 10)] : []).sort();
  for (const input of bounds) { input.min = days[0]; input.max = days[days.length - 1]; }
  const byDays = () => {
    const [from, to] = bounds.map((input) => input.value);
    if (!from && !to) return look(0, 1);
    const parts = content.series.flatMap((one) => one.part.filter((part, i) => {
      const day = one.time[i].slice(0, 10);
      return (!from || day >= from) && (!to || day <= to);
    }));
    if (!parts.length) { caption.textContent = "there is nothing in these days"; return; }
    caption.textContent = "";
    const low = Math.min(...parts), high = Math.max(...parts), room = (high - low) * 0.01 || 0.002;
    look(low - room, high + room);
  };
  for (const input of bounds) input.addEventListener("change", byDays);
  const all = () => { for (const input of bounds) input.value = ""; look(0, 1); };
  reset.addEventListener("click", all);

  const at = (event) => {
    const svg = active(), frame = svg.getBoundingClientRect();
    const x = (event.clientX - frame.left) * box.width / frame.width, y = (event.clientY - frame.top) * box.height / frame.height;
    const number = content.panels.findIndex(([left, top, width, height]) => x >= left && x <= left + width && y >= top && y <= top + height);
    return { x, y, number };
  };
  let began = null;
  for (const svg of [whole, paper]) {
    svg.style.touchAction = "pan-y";
    svg.addEventListener("pointerdown", (event) => { const point = at(event); if (point.number >= 0) began = point; });
    svg.addEventListener("pointermove", (event) => {
      const { x, number } = at(event);
      if (began) {
        const [left, top, width, height] = content.panels[began.number];
        const end = Math.min(left + width, Math.max(left, x));
        for (const [key, value] of Object.entries({ x: Math.min(began.x, end), width: Math.abs(end - began.x), y: top, height, visibility: "visible" })) band.setAttribute(key, value);
      }
      if (number >= 0) show(number, x);
    });
  }
  window.addEventListener("pointerup", (event) => {
    if (!began) return;
    const [left, , width] = content.panels[began.number];
    const part = (x) => view[0] + (Math.min(left + width, Math.max(left, x)) - left) / width * (view[1] - view[0]);
    const ends = [part(began.x), part(at(event).x)].sort((a, b) => a - b);
    band.setAttribute("visibility", "hidden");
    const moved = Math.abs(at(event).x - began.x) > 8;
    began = null;
    if (moved) { for (const input of bounds) input.value = ""; look(ends[0], ends[1]); }
  });
  // by the keyboard: a value further with each arrow, closer with +, back with - and Escape
  figure.addEventListener("keydown", (event) => {
    const number = here ? here.number : 0;
    const one = content.series.find((series) => content.panels.length === 1 || series.panel === number + 1) || content.series[0];
    if (!one || !one.x.length) return;
    const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    const now = here ? Math.min(here.i, one.x.length - 1) : one.x.length - 1;
    if (step) {
      event.preventDefault();
      const i = Math.min(one.x.length - 1, Math.max(0, here ? now + step : now));
      show(one.panel - 1 < content.panels.length ? one.panel - 1 : 0, place(one, i));
    } else if (event.key === "Escape") all();
    else if (event.key === "+" || event.key === "-") {
      const half = (view[1] - view[0]) * (event.key === "+" ? 0.25 : 1), middle = one.part[now];
      if (half > 1e-4) look(middle - half <= 0 && middle + half >= 1 ? 0 : middle - half, middle + half);
    }
  });
}
