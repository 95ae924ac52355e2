// What is drawn over the picture while a line of the ladder is open: the frame of the crop, places of plain sky.
import {
  cropFrame,
  fromShares,
  proportion,
  slid,
  tallest,
  toShares
} from "./finish-recipe.js";

const GRIP = 16; // px of the screen about a corner
const LEAST = 0.2; // size and aspect, as the recipe has them
const MOST_ASPECT = 5;
const round = (v) => Math.round(v * 1e4) / 1e4;

const shape = (name, attributes) => {
  const made = document.createElementNS("http://www.w3.org/2000/svg", name);
  for (const [key, value] of Object.entries(attributes)) made.setAttribute(key, value);
  return made;
};

export function startCrop(root, editor, stage) {
  const svg = document.getElementById("marks");
  const open = (line) => root.querySelector(`.rung[data-line="${line}"]`)?.open;
  const cropping = () => open("Crop") && !stage.zoom && !stage.compare;

  function frame() {
    return cropFrame(editor.recipe.geometry, stage.shown.to_shares, stage.shown.size);
  }

  function drawFrame([w, h]) {
    const {
      x,
      y,
      w: wide,
      h: high
    } = frame();
    const [l, t, r, b] = [x - wide / 2, y - high / 2, x + wide / 2, y + high / 2];
    const parts = [
      shape("path", {
        class: "out",
        d: `M0 0H${w}V${h}H0ZM${l} ${t}V${b}H${r}V${t}Z`
      }),
      shape("rect", {
        class: "kept",
        x: l,
        y: t,
        width: wide,
        height: high
      })
    ];
    for (const k of [1, 2]) {
      parts.push(shape("line", {
        x1: l + (k * wide) / 3,
        x2: l + (k * wide) / 3,
        y1: t,
        y2: b
      }), shape("line", {
        x1: l,
        x2: r,
        y1: t + (k * high) / 3,
        y2: t + (k * high) / 3
      }));
    }
    const grip = (GRIP * w) / Math.max(stage.picture.clientWidth, 1) / 2;
    for (const [cx, cy] of [
        [l, t],
        [r, t],
        [r, b],
        [l, b]
      ]) {
      parts.push(shape("rect", {
        class: "grip",
        x: cx - grip / 2,
        y: cy - grip / 2,
        width: grip,
        height: grip
      }));
    }
    svg.replaceChildren(...parts);
  }

  function drawPlain([w]) {
    const radius = (7 * w) / Math.max(stage.picture.clientWidth, 1);
    svg.replaceChildren(...editor.recipe.gradient_removal.plain.map(([x, y]) => {
      const [cx, cy] = fromShares(stage.shown.to_shares, x, y);
      return shape("circle", {
        cx,
        cy,
        r: radius
      });
    }));
  }

  function draw() {
    const drawn = stage.shown && (cropping() ? drawFrame : open("Town glow") ? drawPlain : null);
    svg.toggleAttribute("hidden", !drawn);
    stage.box.classList.toggle("cropping", Boolean(cropping()));
    if (!drawn) return;
    svg.setAttribute("viewBox", `0 0 ${stage.shown.size[0]} ${stage.shown.size[1]}`);
    drawn(stage.shown.size);
  }

  const at = (e) => {
    const box = stage.picture.getBoundingClientRect();
    return [((e.clientX - box.left) / box.width) * stage.shown.size[0],
      ((e.clientY - box.top) / box.height) * stage.shown.size[1]
    ];
  };

  let drag = null;

  // The picture may have come anew, smaller or larger, since the frame was taken hold of.
  function resized() {
    const k = stage.shown.size[0] / drag.wide;
    if (k === 1) return;
    for (const key of Object.keys(drag.from)) drag.from[key] *= k;
    drag.at = drag.at.map((v) => v * k);
    drag.last = drag.last.map((v) => v * k);
    drag.wide = stage.shown.size[0];
  }

  function moved([px, py]) {
    resized();
    const {
      geometry
    } = editor.recipe, m = stage.shown.to_shares;
    if (drag.corner) {
      const [w, h] = [2 * Math.abs(px - drag.from.x), 2 * Math.abs(py - drag.from.y)];
      if (geometry.ratio === "free") geometry.aspect = round(Math.max(LEAST, Math.min(MOST_ASPECT, w / Math.max(h, 1))));
      const ratio = proportion(geometry, stage.shown.size);
      const centre = fromShares(m, 0.5, 0.5).map((v) => v + 0.5);
      const tall = geometry.ratio === "free" ? h : Math.max(h, w / ratio);
      const most = Math.min(tall, tallest(m, [drag.from.x, drag.from.y], ratio, stage.shown.size));
      geometry.size = round(Math.max(LEAST, Math.min(1, most / tallest(m, centre, ratio, stage.shown.size))));
    } else {
      const to = [drag.from.x + px - drag.at[0], drag.from.y + py - drag.at[1]];
      drag.last = slid(m, to, drag.last, drag.from.w, drag.from.h);
      [geometry.x, geometry.y] = toShares(m, drag.last[0] - 0.5, drag.last[1] - 0.5).map(round);
    }
    draw();
  }

  stage.box.addEventListener("pointerdown", (e) => {
    if (editor.tool || !cropping() || !stage.shown || !e.isPrimary) return;
    const [px, py] = at(e), from = frame();
    const grip = (GRIP * stage.shown.size[0]) / stage.picture.clientWidth;
    const [dx, dy] = [Math.abs(px - from.x), Math.abs(py - from.y)];
    const corner = Math.abs(dx - from.w / 2) < grip && Math.abs(dy - from.h / 2) < grip;
    if (!corner && (dx > from.w / 2 || dy > from.h / 2)) return;
    e.preventDefault();
    stage.box.setPointerCapture(e.pointerId);
    drag = {
      corner,
      from,
      at: [px, py],
      last: [from.x, from.y],
      wide: stage.shown.size[0]
    };
  });
  stage.box.addEventListener("pointermove", (e) => drag && moved(at(e)));
  stage.box.addEventListener("pointerup", () => {
    if (drag) editor.changed();
    drag = null;
  });
  // ladders open and shut: what is shown under the frame changes with them
  root.addEventListener("toggle", (e) => {
    const line = e.target.dataset?.line;
    if (line === "Crop") editor.redraw();
    else if (line === "Town glow") draw();
  }, true);

  return {
    draw,
    sent: (recipe) => cropping() ? {
      ...recipe,
      geometry: {
        ...recipe.geometry,
        ratio: "full",
        size: 1,
        x: 0.5,
        y: 0.5
      }
    } : recipe
  };
}
