// Marking a panorama: collects pixels and sends them; the server turns them into azimuths and altitudes.
function start() {
  const svg = document.getElementById("trace"),
    form = document.getElementById("traced");
  if (!svg) return;
  const NS = "http://www.w3.org/2000/svg",
    fields = form.elements,
    marks = document.getElementById("marks"),
    note = document.getElementById("said");
  const width = svg.viewBox.baseVal.width,
    height = svg.viewBox.baseVal.height,
    unit = width / 700;
  const done = [];
  let traced = [];

  const make = (name, attributes) => {
    const e = document.createElementNS(NS, name);
    for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
    marks.append(e);
  };

  function draw() {
    marks.replaceChildren();
    const value = (name) => (fields[name].value === "" ? null : Number(fields[name].value));
    for (const x of [value("x1"), value("x2")])
      if (x !== null) make("line", {
        x1: x,
        x2: x,
        y1: 0,
        y2: height,
        stroke: "#b4232c",
        "stroke-width": unit *
          1.5
      });
    if (value("level") !== null) make("line", {
      x1: 0,
      x2: width,
      y1: value("level"),
      y2: value("level"),
      stroke: "#f1f3f2",
      "stroke-width": unit,
      "stroke-dasharray": `${unit * 6} ${unit * 4}`
    });
    if (fields.how.value === "sun" && value("y1") !== null) make("circle", {
      cx: value("x1"),
      cy: value("y1"),
      r: unit * 6,
      fill: "none",
      stroke: "#b4232c",
      "stroke-width": unit * 1.5
    });
    const line = [...traced].sort((a, b) => a[0] - b[0]);
    if (line.length > 1) make("polyline", {
      points: line.map((p) => p.join(",")).join(" "),
      fill: "none",
      stroke: "#f7ead0",
      "stroke-width": unit * 1.6
    });
    for (const p of traced) make("circle", {
      cx: p[0],
      cy: p[1],
      r: unit * 2.4,
      fill: "#f7ead0"
    });
    note.textContent = traced.length ? `${traced.length} points of the horizon` : {
      1: "Click the left point.",
      2: "Click the right point.",
      level: "Click where altitude 0° lies.",
      sun: "Click the Sun's centre.",
      trace: "Click along the horizon."
    } [fields.mark.value];
  }

  const state = () => ({
    traced: traced.map((p) => [...p]),
    x1: fields.x1.value,
    y1: fields.y1.value,
    x2: fields.x2
      .value,
    level: fields.level.value
  });
  svg.addEventListener("pointerdown", (event) => {
    const box = svg.getBoundingClientRect();
    const x = Math.round(((event.clientX - box.left) / box.width) * width * 10) / 10,
      y = Math.round(((event.clientY - box.top) / box.height) * height * 10) / 10;
    done.push(state());
    const mark = fields.mark.value;
    if (mark === "1" || mark === "sun") {
      fields.x1.value = x;
      fields.y1.value = y;
    } else if (mark === "2") fields.x2.value = x;
    else if (mark === "level") fields.level.value = y;
    else traced.push([x, y]);
    const next = {
      1: "2",
      2: "level",
      level: "trace",
      sun: "trace"
    } [mark];
    if (next) fields.mark.value = next;
    draw();
  });
  document.getElementById("undo").addEventListener("click", () => {
    const last = done.pop();
    if (!last) return;
    traced = last.traced;
    for (const name of ["x1", "y1", "x2", "level"]) fields[name].value = last[name];
    draw();
  });
  form.addEventListener("change", () => {
    for (const e of form.querySelectorAll("[data-for]")) e.hidden = e.dataset.for !== fields.how.value;
    const allowed = fields.how.value === "sun" ? ["sun", "trace"] : ["1", "2", "level", "trace"];
    if (!allowed.includes(fields.mark.value)) fields.mark.value = allowed[0];
    draw();
  });
  form.addEventListener("submit", () => {
    fields.traced.value = JSON.stringify(traced);
  });
  draw();
}

start();
