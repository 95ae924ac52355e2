// Tools that work on the picture: placing, picking a grey, a line along the horizon, painting, mending.
import {
  at,
  lean,
  put
} from "./finish-recipe.js";
import {
  token
} from "../shared/token.js";

const LEAST_STEP = 0.004; // of the width, between points of a stroke
const MOST_POINTS = 300;

export function startTools(root, editor, stage, facts) {
  const value = (id) => Number(document.getElementById(id).value);
  const chosen = (id) => document.getElementById(id).value;
  const canvas = document.getElementById("strokes");
  let points = [];

  function lay(tool) {
    editor.tool = editor.tool === tool ? "" : tool;
    stage.box.classList.toggle("tool", Boolean(editor.tool));
    for (const b of root.querySelectorAll("[data-tool]")) {
      b.setAttribute("aria-pressed", String(b.dataset.tool === editor.tool));
    }
  }

  function mark(e, radius) {
    const pen = canvas.getContext("2d"),
      box = canvas.getBoundingClientRect();
    const across = 1 / Math.hypot(stage.shown.to_shares[0][0], stage.shown.to_shares[1][0]);
    pen.fillStyle = "rgba(255,255,255,0.18)";
    pen.beginPath();
    pen.arc(e.clientX - box.left, e.clientY - box.top,
      (radius * across * canvas.width) / stage.shown.size[0], 0, 7);
    pen.fill();
  }

  const clean = () => canvas.getContext("2d").clearRect(0, 0, canvas.width, canvas.height);

  const area = () => ({
    shape: chosen("area-shape"),
    effect: chosen("area-effect"),
    points,
    radius: value("area-radius"),
    softness: value("area-softness"),
    amount: document.getElementById("area-erase").checked ? 1 : value("area-amount"),
    zone: chosen("area-zone"),
    erase: document.getElementById("area-erase").checked
  });

  function withArea() {
    const recipe = structuredClone(editor.recipe);
    recipe.areas.list.push(area());
    return recipe;
  }

  async function grey(place) {
    const answer = await fetch(root.dataset.pick, {
      method: "POST",
      body: new URLSearchParams({
        x: place[0],
        y: place[1]
      }),
      headers: {
        "X-CSRFToken": token()
      }
    });
    if (!answer.ok) {
      document.getElementById("limits").textContent = await answer.text();
      return;
    }
    white(await answer.json());
  }

  async function plain(place) {
    const answer = await fetch(root.dataset.plain, {
      method: "POST",
      body: new URLSearchParams({
        x: place[0],
        y: place[1]
      }),
      headers: {
        "X-CSRFToken": token()
      }
    });
    if (!answer.ok) return;
    editor.recipe.gradient_removal.plain.push([...place, ...(await answer.json()).level]);
    if (!editor.recipe.gradient_removal.share) put(editor.recipe, "gradient_removal.share", 0.85);
    editor.changed();
  }

  function white({
    kelvin,
    cast
  }) {
    for (const zone of ["sky", "ground"]) {
      put(editor.recipe, `light_balance.${zone}.kelvin`, kelvin);
      put(editor.recipe, `light_balance.${zone}.cast`, cast);
    }
    editor.changed();
  }

  let line = null;
  stage.box.addEventListener("pointerdown", (e) => {
    if (!editor.tool || !stage.shown || !e.isPrimary) return;
    e.preventDefault();
    stage.box.setPointerCapture(e.pointerId);
    const place = stage.place(e);
    if (editor.tool === "place") {
      put(editor.recipe, "core.x", place[0]);
      put(editor.recipe, "core.y", place[1]);
      lay("");
      editor.changed();
    } else if (editor.tool === "grey") {
      lay("");
      grey(place);
    } else if (editor.tool === "plain") {
      plain(place);
    } else if (editor.tool === "spot") {
      editor.recipe.repair.spots.push({
        x: place[0],
        y: place[1],
        radius: value("spot-radius")
      });
      editor.changed();
    } else if (editor.tool === "horizon") line = [e.clientX, e.clientY];
    else if (editor.tool === "area") {
      points = [place];
      mark(e, value("area-radius"));
    }
  });
  stage.box.addEventListener("pointermove", (e) => {
    if (editor.tool === "horizon" && line) {
      const pen = canvas.getContext("2d"),
        box = canvas.getBoundingClientRect();
      clean();
      pen.strokeStyle = "#fff";
      pen.beginPath();
      pen.moveTo(line[0] - box.left, line[1] - box.top);
      pen.lineTo(e.clientX - box.left, e.clientY - box.top);
      pen.stroke();
      return;
    }
    if (editor.tool !== "area" || !points.length) return;
    const place = stage.place(e),
      before = points.at(-1);
    if (chosen("area-shape") === "brush") {
      if (Math.hypot(place[0] - before[0], place[1] - before[1]) < LEAST_STEP || points.length >= MOST_POINTS) return;
      points.push(place);
      mark(e, value("area-radius") * (e.pointerType === "pen" && e.pressure ? 0.4 + e.pressure : 1));
    } else points = [points[0], place];
    stage.draw(withArea(), "draft");
  });
  stage.box.addEventListener("pointerup", (e) => {
    clean();
    if (line) {
      const turn = at(editor.recipe, "geometry.level") + lean(line[0], line[1], e.clientX, e.clientY);
      line = null;
      lay("");
      put(editor.recipe, "geometry.level", Math.max(-15, Math.min(15, Math.round(10 * turn) / 10)));
      editor.changed();
    } else if (editor.tool === "area" && points.length) {
      if (chosen("area-shape") === "brush" || points.length > 1) {
        editor.recipe = withArea();
        editor.changed();
      }
      points = [];
    }
  });

  root.addEventListener("click", (e) => {
    const b = e.target.closest("button");
    if (!b) return;
    if (b.dataset.tool) lay(b.dataset.tool);
    else if (b.id === "by-stars-level") {
      put(editor.recipe, "geometry.level", facts.tilt);
      editor.changed();
    } else if (b.id === "by-stars-upright") {
      put(editor.recipe, "geometry.level", facts.tilt);
      put(editor.recipe, "geometry.upright", facts.looked_up);
      editor.changed();
    } else if (b.id === "by-stars-fringe") {
      put(editor.recipe, "corners.red", Math.round(100 * facts.stars.red) / 100);
      put(editor.recipe, "corners.blue", Math.round(100 * facts.stars.blue) / 100);
      editor.changed();
    } else if (b.id === "plain-clear") {
      editor.recipe.gradient_removal.plain = [];
      editor.changed();
    } else if (b.id === "by-stars-white") white(facts.white);
    else if (b.id === "to-core") {
      put(editor.recipe, "core.x", facts.core[0]);
      put(editor.recipe, "core.y", facts.core[1]);
      editor.changed();
    } else if (b.id === "areas-clear") {
      editor.recipe.areas.list = [];
      editor.changed();
    } else if (b.id === "spots-clear") {
      editor.recipe.repair.spots = [];
      editor.changed();
    }
  });

  return {
    key(e) {
      const radius = document.getElementById(editor.tool === "spot" ? "spot-radius" : "area-radius");
      if (e.key === "Escape" && editor.tool) lay("");
      else if (e.key === "[") radius.stepDown();
      else if (e.key === "]") radius.stepUp();
      else return false;
      radius.dispatchEvent(new Event("input", {
        bubbles: true
      }));
      return true;
    }
  };
}
