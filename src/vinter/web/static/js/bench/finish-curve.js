// The curve: points for sky or ground, added by a click, moved by pointer or arrows, taken away by a double click.
import {
  curve
} from "./finish-recipe.js";

const W = 320,
  H = 120,
  MOST = 8,
  STEP = 0.02;

export function startCurve(editor) {
  const svg = document.getElementById("curve"),
    dots = svg.querySelector("g");
  const zone = () => document.querySelector("input[name=curve]:checked").value;
  const points = () => editor.recipe.curve[zone()].points;
  const hold = (v) => Math.round(Math.max(0.01, Math.min(0.99, v)) * 1000) / 1000;
  let held = null;

  function path(of) {
    return `M${curve(editor.recipe.curve[of].points).map(([x, y]) => `${x * W},${H - y * H}`).join("L")}`;
  }

  function show() {
    svg.querySelector("path.sky").setAttribute("d", path("sky"));
    svg.querySelector("path.ground").setAttribute("d", path("ground"));
    dots.replaceChildren(...points().map(([x, y], i) => {
      const c = document.createElementNS("http://www.w3.org/2000/svg", "circle");
      Object.entries({
        cx: x * W,
        cy: H - y * H,
        r: 5,
        tabindex: 0,
        "data-i": i,
        role: "slider",
        "aria-label": `from level ${Math.round(100 * x)} %`,
        "aria-valuenow": Math.round(100 * y),
        "aria-valuetext": `to ${Math.round(100 * y)} %`
      }).forEach(([k, v]) => c.setAttribute(k, v));
      return c;
    }));
  }

  function where(e) {
    const box = svg.getBoundingClientRect();
    return [hold((e.clientX - box.left) / box.width), hold(1 - (e.clientY - box.top) / box.height)];
  }

  svg.addEventListener("pointerdown", (e) => {
    const list = points();
    if (e.target.dataset.i === undefined) {
      if (list.length >= MOST) return;
      list.push(where(e));
      held = list.length - 1;
    } else held = Number(e.target.dataset.i);
    svg.setPointerCapture(e.pointerId);
    show();
    editor.redraw("draft");
  });
  svg.addEventListener("pointermove", (e) => {
    if (held === null) return;
    points()[held] = where(e);
    show();
    editor.redraw("draft");
  });
  svg.addEventListener("pointerup", () => {
    if (held === null) return;
    held = null;
    editor.changed();
  });
  svg.addEventListener("dblclick", (e) => {
    const box = svg.getBoundingClientRect(),
      x = (e.clientX - box.left) / box.width;
    const list = points();
    const near = list.map((p, i) => [Math.abs(p[0] - x), i]).sort((a, b) => a[0] - b[0])[0];
    if (near && near[0] < 0.05) editor.recipe.curve[zone()].points = list.filter((p) => Math.abs(p[0] - x) >= 0.05);
    editor.changed();
  });
  svg.addEventListener("keydown", (e) => {
    const i = Number(e.target.dataset.i),
      move = {
        ArrowLeft: [-STEP, 0],
        ArrowRight: [STEP, 0],
        ArrowUp: [0, STEP],
        ArrowDown: [0, -STEP]
      } [e.key];
    if (Number.isNaN(i)) return;
    if (e.key === "Delete" || e.key === "Backspace") points().splice(i, 1);
    else if (move) points()[i] = points()[i].map((v, k) => hold(v + move[k]));
    else return;
    e.preventDefault();
    e.stopPropagation();
    editor.changed();
    dots.querySelector(`[data-i="${i}"]`)?.focus();
  });
  document.getElementById("curve-clear").addEventListener("click", () => {
    editor.recipe.curve[zone()].points = [];
    editor.changed();
  });
  for (const radio of document.querySelectorAll("input[name=curve]")) radio.addEventListener("change", show);
  return show;
}
