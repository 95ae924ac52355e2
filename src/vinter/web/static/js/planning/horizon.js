// Drawing the horizon: points over azimuth and altitude; the server keeps and judges them.
import {
  HEIGHT,
  WIDTH,
  directionAt,
  hillsPath,
  moved,
  removed,
  x,
  y
} from "./horizon-profile.js";

function start() {
  const svg = document.getElementById("horizon");
  if (!svg) return;
  const NS = "http://www.w3.org/2000/svg";
  let points = JSON.parse(document.getElementById("profile").textContent),
    chosen = -1,
    dragging = false;
  const past = [];
  const make = (name, attributes, parent) => {
    const e = document.createElementNS(NS, name);
    for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
    parent.append(e);
    return e;
  };

  const grid = document.getElementById("grid");
  for (let alt = 0; alt <= 40; alt += 10) {
    make("line", {
        x1: 0,
        x2: WIDTH,
        y1: y(alt),
        y2: y(alt),
        stroke: "#8fa0b4",
        "stroke-opacity": alt ? 0.3 : 0.8
      },
      grid);
    make("text", {
      x: -8,
      y: y(alt) + 4,
      "text-anchor": "end"
    }, grid).textContent = `${alt}°`;
  }
  ["N", "NE", "E", "SE", "S", "SW", "W", "NW", "N"].forEach((name, i) => {
    make("line", {
      x1: x(i * 45),
      x2: x(i * 45),
      y1: HEIGHT,
      y2: HEIGHT + 5,
      stroke: "#10213f"
    }, grid);
    make("text", {
      x: x(i * 45),
      y: HEIGHT + 19,
      "text-anchor": "middle"
    }, grid).textContent = name;
  });
  for (const way of svg.querySelectorAll("polyline")) {
    const pairs = [...way.dataset.points.matchAll(/\(([-\d.]+), ([-\d.]+)\)/g)].map((m) => [Number(m[1]), Number(m[
      2])]);
    way.setAttribute("points", pairs.map((p) => `${x(p[0])},${y(p[1])}`).join(" "));
  }

  function draw() {
    document.getElementById("hills").setAttribute("d", hillsPath(points));
    const group = document.getElementById("points");
    group.replaceChildren();
    points.forEach((p, i) => make("circle", {
      cx: x(p[0]),
      cy: y(p[1]),
      r: i === chosen ? 7 : 5,
      class: i ===
        chosen ? "chosen" : "",
      "data-i": i
    }, group));
    document.getElementById("said").textContent = chosen >= 0 && points[chosen] ?
      `azimuth ${points[chosen][0].toFixed(1)}°, altitude ${points[chosen][1].toFixed(1)}°`.replace("-", "−") :
      `${points.length} points`;
  }

  const remember = () => {
    past.push(points.map((p) => [...p]));
    if (past.length > 100) past.shift();
  };
  const undo = () => {
    if (past.length) {
      points = past.pop();
      chosen = -1;
      draw();
    }
  };

  function at(event) {
    const box = svg.getBoundingClientRect(),
      view = svg.viewBox.baseVal;
    const px = ((event.clientX - box.left) / box.width) * view.width + view.x;
    const py = ((event.clientY - box.top) / box.height) * view.height + view.y;
    return directionAt(px, py);
  }

  svg.addEventListener("pointerdown", (event) => {
    remember();
    if (event.target.dataset.i !== undefined) chosen = Number(event.target.dataset.i);
    else {
      points.push(at(event));
      chosen = points.length - 1;
    }
    dragging = true;
    svg.setPointerCapture(event.pointerId);
    draw();
  });
  svg.addEventListener("pointermove", (event) => {
    if (dragging) {
      points[chosen] = at(event);
      draw();
    }
  });
  svg.addEventListener("pointerup", () => {
    dragging = false;
  });
  svg.addEventListener("keydown", (event) => {
    const steps = {
      ArrowLeft: [-1, 0],
      ArrowRight: [1, 0],
      ArrowUp: [0, 0.5],
      ArrowDown: [0, -0.5]
    };
    if ((event.ctrlKey || event.metaKey) && event.key === "z") undo();
    else if (steps[event.key] && points.length) {
      remember();
      if (chosen < 0) chosen = 0;
      points = moved(points, chosen, steps[event.key]);
      draw();
    } else if (event.key === "Tab" && points.length && !event.shiftKey && chosen < points.length - 1) {
      chosen
        += 1;
      draw();
    } else if (event.key === "Enter") {
      remember();
      points.push([180, 5]);
      chosen = points.length - 1;
      draw();
    } else if ((event.key === "Delete" || event.key === "Backspace") && chosen >= 0) {
      remember();
      points = removed(points, chosen);
      chosen = -1;
      draw();
    } else return;
    event.preventDefault();
  });
  document.getElementById("undo").addEventListener("click", undo);
  document.getElementById("flat").addEventListener("click", () => {
    remember();
    points = [];
    chosen = -1;
    draw();
  });
  document.getElementById("keep").addEventListener("submit", (event) => {
    event.target.elements.points.value = JSON
      .stringify(points);
  });
  draw();
}

start();
