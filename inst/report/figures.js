// Interactive figures take the colours of the page, light or dark.
"use strict";
const darkColours = {
  "#0072B2": "#56B4E9", "#D55E00": "#F0853C", "#009E73": "#2FC49A",
  "#CC79A7": "#DC9CC0", "#56B4E9": "#8FA9E8", "#E69F00": "#E9B44C",
  "#1C2430": "#E8ECF2", "#5B6675": "#A6B0BD", "#B9C1CB": "#5B6675"
};
const paletteOf = (dark) => (colour) => {
  if (typeof colour !== "string") return colour;
  for (const [light, night] of Object.entries(darkColours)) {
    const [from, to] = dark ? [light, night] : [night, light];
    if (colour.toUpperCase() === from) return to;
  }
  return colour;
};
const colourPaths = [
  "line.color", "marker.color", "fillcolor", "increasing.line.color",
  "decreasing.line.color", "decreasing.fillcolor"
];
const valueAt = (object, path) =>
  path.split(".").reduce((part, name) => (part || {})[name], object);

function recolour(figure, dark) {
  const page = getComputedStyle(document.documentElement);
  const colour = (name) => page.getPropertyValue(name).trim();
  const layout = { "font.color": colour("--text") };
  for (const name of Object.keys(figure._fullLayout)) {
    if (/^[xy]axis\d*$/.test(name)) layout[name + ".gridcolor"] = colour("--line");
  }
  if (figure._fullLayout.xaxis && figure._fullLayout.xaxis.rangeselector) {
    layout["xaxis.rangeselector.bgcolor"] = colour("--band");
    layout["xaxis.rangeselector.activecolor"] = colour("--line");
  }
  layout["hoverlabel.bgcolor"] = colour("--paper");
  layout["hoverlabel.font.color"] = colour("--text");
  const palette = paletteOf(dark);
  const update = {};
  for (const path of colourPaths) {
    const values = figure.data.map((trace) => palette(valueAt(trace, path)));
    if (values.some((value) => value !== undefined)) update[path] = values;
  }
  Plotly.update(figure, update, layout);
}

function recolourAll() {
  const dark = matchMedia("(prefers-color-scheme: dark)").matches;
  for (const figure of document.querySelectorAll(".js-plotly-plot")) {
    const wanted = dark ? "dark" : "light";
    if (!figure._fullLayout || figure.dataset.scheme === wanted) continue;
    // figures are drawn light
    if (figure.dataset.scheme || dark) recolour(figure, dark);
    figure.dataset.scheme = wanted;
  }
}
// On a narrow screen panels stand below each other.
const headRoom = 34, panelHeight = 170;
function stackPanels(figure) {
  const layout = figure.layout, count = (layout.meta || {}).panels || 1;
  const names = Object.keys(layout).filter((name) => /^xaxis\d*$/.test(name));
  if (count < 2 || figure.clientWidth > 620 || figure.dataset.stacked) return;
  figure.dataset.stacked = "yes";
  const height = names.length * (panelHeight + headRoom) + 110;
  const share = 1 / names.length, room = headRoom / (height - 110);
  const update = { height: height };
  names.forEach((name, i) => {
    const bottom = 1 - (i + 1) * share;
    update[name + ".domain"] = [0, 1];
    update[name + ".showticklabels"] = true;
    update[name + ".nticks"] = 4;
    update[name.replace("x", "y") + ".domain"] = [bottom + 0.02, bottom + share - room];
    update["annotations[" + i + "].x"] = 0;
    update["annotations[" + i + "].y"] = bottom + share - room;
  });
  figure.style.height = height + "px";
  Plotly.relayout(figure, update);
}
function arrange() {
  recolourAll();
  for (const figure of document.querySelectorAll(".js-plotly-plot")) {
    if (figure.layout) stackPanels(figure);
  }
}
window.addEventListener("load", arrange);
matchMedia("(prefers-color-scheme: dark)").addEventListener("change", recolourAll);
window.addEventListener("beforeprint", () => {
  for (const figure of document.querySelectorAll(".js-plotly-plot")) Plotly.Plots.resize(figure);
});
