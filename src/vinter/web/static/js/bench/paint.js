// Painting over the stack: strokes are collected and sent; the server decides where the mask runs.
import {
  token
} from "../shared/token.js";

function start() {
  const canvas = document.getElementById("paint"),
    form = document.getElementById("keep");
  if (!canvas) return;
  const ink = canvas.getContext("2d"),
    note = document.getElementById("said"),
    radius = document.getElementById("radius");
  const picture = new Image(),
    mask = new Image();
  let strokes = [],
    current = null,
    hidden = false,
    busy = false,
    again = false,
    pattern = null;

  function hatching() {
    const tile = document.createElement("canvas"),
      t = tile.getContext("2d");
    tile.width = tile.height = 12;
    t.strokeStyle = "#ffffffaa";
    t.lineWidth = 1.5;
    t.beginPath();
    t.moveTo(0, 12);
    t.lineTo(12, 0);
    t.stroke();
    return ink.createPattern(tile, "repeat");
  }

  // The ground as hatching: the mask's black turned into opacity.
  function groundLayer() {
    const layer = document.createElement("canvas"),
      l = layer.getContext("2d");
    layer.width = canvas.width;
    layer.height = canvas.height;
    l.drawImage(mask, 0, 0, canvas.width, canvas.height);
    const data = l.getImageData(0, 0, canvas.width, canvas.height);
    for (let i = 0; i < data.data.length; i += 4) data.data[i + 3] = 255 - data.data[i];
    l.putImageData(data, 0, 0);
    l.globalCompositeOperation = "source-in";
    l.fillStyle = pattern;
    l.fillRect(0, 0, canvas.width, canvas.height);
    return layer;
  }

  let layer = null;

  function draw() {
    ink.drawImage(picture, 0, 0, canvas.width, canvas.height);
    if (!hidden && layer) ink.drawImage(layer, 0, 0);
    if (!hidden) strokes.filter((s) => s.frame).forEach(lay);
    if (current) lay(current);
  }

  // A stroke as it was drawn; one that takes a ground frame stays, with that frame's number.
  function lay(stroke) {
    const [x, y] = stroke.points[0];
    ink.strokeStyle = stroke.frame ? "#ffffff55" : stroke.sky ? "#ffffff88" : "#00000088";
    ink.lineWidth = stroke.radius * 2;
    ink.lineCap = ink.lineJoin = "round";
    ink.beginPath();
    stroke.points.forEach(([px, py], i) => (i ? ink.lineTo(px, py) : ink.moveTo(px, py)));
    ink.lineTo(...stroke.points[stroke.points.length - 1]);
    ink.stroke();
    if (!stroke.frame) return;
    ink.fillStyle = "#000";
    ink.font = "bold 22px sans-serif";
    ink.textAlign = "center";
    ink.fillText(String(stroke.frame), x, y + 8);
  }

  async function tryOut() {
    if (busy) {
      again = true;
      return;
    }
    busy = true;
    try {
      const body = new FormData();
      body.append("strokes", JSON.stringify(strokes));
      const response = await fetch(canvas.dataset.try, {
        method: "POST",
        headers: {
          "X-CSRFToken": token()
        },
        body
      });
      if (response.ok) mask.src = URL.createObjectURL(await response.blob());
      else note.textContent = await response.text();
    } finally {
      busy = false;
      if (again) {
        again = false;
        tryOut();
      }
    }
    note.textContent = strokes.length ? `${strokes.length} stroke${strokes.length > 1 ? "s" : ""}` :
      "Nothing painted yet.";
    canvas.dataset.strokes = strokes.length;
  }

  picture.onload = () => {
    canvas.width = Number(canvas.dataset.shown);
    canvas.height = Math.round((canvas.width * picture.naturalHeight) / picture.naturalWidth);
    pattern = hatching();
    if (mask.complete && mask.naturalWidth) layer = groundLayer();
    draw();
  };
  mask.onload = () => {
    if (pattern) {
      layer = groundLayer();
      draw();
    }
  };
  picture.src = canvas.dataset.picture;
  mask.src = canvas.dataset.mask;

  const at = (event) => {
    const box = canvas.getBoundingClientRect();
    return [((event.clientX - box.left) / box.width) * canvas.width, ((event.clientY - box.top) / box.height) *
      canvas.height
    ].map((v) => Math.round(v * 10) / 10);
  };
  canvas.addEventListener("pointerdown", (event) => {
    canvas.setPointerCapture(event.pointerId);
    current = {
      points: [at(event)],
      radius: Number(radius.value),
      sky: form.elements.side.value === "sky",
      frame: Number(form.elements.side.value) || 0
    };
    draw();
  });
  canvas.addEventListener("pointermove", (event) => {
    if (current) {
      current.points.push(at(event));
      draw();
    }
  });
  canvas.addEventListener("pointerup", () => {
    if (current) {
      strokes.push(current);
      current = null;
      tryOut();
    }
  });

  const undo = () => {
    if (strokes.pop()) tryOut();
  };
  document.getElementById("undo").addEventListener("click", undo);
  form.addEventListener("submit", () => {
    form.elements.strokes.value = JSON.stringify(strokes);
  });
  document.addEventListener("keydown", (event) => {
    if ((event.ctrlKey || event.metaKey) && event.key === "z") undo();
    else if (event.ctrlKey || event.metaKey || event.altKey || event.target.matches("input[type=range]")) return;
    else if (event.key === "s" || event.key === "g") form.elements.side.value = event.key === "s" ? "sky" :
      "ground";
    else if (event.key === ",") radius.value = Number(radius.value) - 4;
    else if (event.key === ".") radius.value = Number(radius.value) + 4;
    else if (event.key === "h") {
      hidden = !hidden;
      draw();
    } else return;
    event.preventDefault();
  });
}

start();
