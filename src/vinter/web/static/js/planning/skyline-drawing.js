// What the skyline shows, drawn: sky, grid, stars, ground, subject, passes, the pole's guides and the frame.
import {
  groundLine,
  highest,
  pixelsPerDegree,
  xOf,
  yOf
} from "./skyline-geometry.js";

// `state` holds what is looked at (`at`), what is shown (`show`), the server's answer (`scene`) and the painted
// sky with the view it was painted for (`sky`, `skyFor`); `clock` writes a moment of the site.
export function drawing(box, canvas, state, clock, narrow) {
  const ink = canvas.getContext("2d");
  const view = () => ({
    width: canvas.clientWidth,
    height: canvas.clientHeight,
    centre: state.at.centre,
    span: state.at.span
  });
  const perDegree = () => pixelsPerDegree(view());
  const high = () => highest(view());
  const X = (az) => xOf(az, view());
  const Y = (alt) => yOf(alt, view());

  function path(points, close) {
    ink.beginPath();
    let before = null;
    for (const [az, alt] of points) {
      const x = X(az),
        y = Y(alt);
      if (before === null || Math.abs(x - before) > canvas.clientWidth / 2) ink.moveTo(x, y);
      else ink.lineTo(x, y);
      before = x;
    }
    if (close) ink.closePath();
  }

  function label(text, x, y, colour, align = "left") {
    ink.font = "12px 'Atkinson Next', sans-serif";
    ink.textAlign = align;
    ink.fillStyle = colour;
    ink.fillText(text, x, y);
  }

  const starColour = (bv) => (bv < 0.15 ? "#d6e2ff" : bv < 0.7 ? "#ffffff" : bv < 1.2 ? "#ffeacb" : "#ffd3a1");

  function drawSky(w, h) {
    ink.fillStyle = "#141d33";
    ink.fillRect(0, 0, w, h);
    if (!state.sky) return;
    const scale = state.skyFor.span === state.at.span ? 1 : state.skyFor.span / state.at.span;
    const width = w * scale,
      top = Y(state.skyFor.high);
    for (const shift of [-360, 0, 360]) ink.drawImage(state.sky, X(state.skyFor.centre) + shift * perDegree() - width / 2, top,
      width, h - top);
  }

  function drawGrid(w, h) {
    ink.strokeStyle = "#9db1d022";
    ink.lineWidth = 1;
    for (let alt = 0; alt < high(); alt += state.at.span > 200 ? 30 : 10) {
      ink.beginPath();
      ink.moveTo(0, Y(alt));
      ink.lineTo(w, Y(alt));
      ink.stroke();
      if (alt) label(`${alt}°`, 6, Y(alt) - 3, "#9db1d0aa");
    }
    const step = state.at.span > 200 ? 45 : state.at.span > 100 ? 15 : 10;
    for (let az = 0; az < 360; az += step) {
      ink.beginPath();
      ink.moveTo(X(az), 0);
      ink.lineTo(X(az), Y(0));
      ink.stroke();
    }
  }

  function drawStars() {
    if (state.show.lines) {
      ink.strokeStyle = "#a9bde040";
      ink.lineWidth = 1;
      ink.beginPath();
      for (const [az1, alt1, az2, alt2] of state.scene.lines) {
        const x1 = X(az1),
          x2 = X(az2);
        if (Math.abs(x1 - x2) < canvas.clientWidth / 3) {
          ink.moveTo(x1, Y(alt1));
          ink.lineTo(x2, Y(alt2));
        }
      }
      ink.stroke();
    }
    for (const [az, alt, v, bv] of state.scene.stars) {
      const r = Math.max(0.7, (6.1 - v) * 0.5);
      ink.fillStyle = starColour(bv);
      ink.globalAlpha = Math.min(1, 0.6 + (5 - v) * 0.15);
      ink.beginPath();
      ink.arc(X(az), Y(alt), r, 0, 7);
      ink.fill();
    }
    ink.globalAlpha = 1;
    if (state.show.names && state.at.span < 300)
      for (const [az, alt, name] of state.scene.names) label(name, X(az), Y(alt), "#a9bde099", "center");
  }

  function drawMoon() {
    const [az, alt, lit] = state.scene.moon;
    if (alt < -1) return;
    const x = X(az),
      y = Y(alt),
      r = Math.max(5, 0.26 * perDegree());
    ink.fillStyle = "#f2f1e6";
    ink.beginPath();
    ink.arc(x, y, r, 0, 7);
    ink.fill();
    label(`Moon ${Math.round(lit * 100)} %`, x + r + 5, y + 4, "#e6e8ee");
  }

  function drawTarget() {
    const [az, alt, name] = state.scene.target, x = X(az), y = Y(alt);
    ink.strokeStyle = "#f7ead0";
    ink.lineWidth = 1.6;
    ink.beginPath();
    ink.arc(x, y, 11, 0, 7);
    ink.stroke();
    label(state.at.target === "core" ? "core" : name, x + 15, y - 8, "#f7ead0");
  }

  function drawGround(w, h) {
    ink.beginPath();
    ink.moveTo(-10, h + 10);
    const from = state.at.centre - state.at.span / 2,
      points = groundLine(state.scene.horizon);
    const flat = points.map(([az, alt]) => [(az - from) * perDegree(), Y(alt)]);
    for (const [x, y] of flat) ink.lineTo(x, y);
    ink.lineTo(w + 10, h + 10);
    ink.closePath();
    ink.fillStyle = "#0a0e17";
    ink.fill();
    ink.strokeStyle = "#c3cbd355";
    ink.lineWidth = 1;
    ink.stroke();
    ["N", "NE", "E", "SE", "S", "SW", "W", "NW"].forEach((name, i) => label(name, X(i * 45), h - 8, "#dfe5ee",
      "center"));
    for (const [az, words] of state.scene.lights) {
      const x = X(az),
        y = Y(0);
      ink.fillStyle = "#e0a23a";
      ink.beginPath();
      ink.moveTo(x, y - 8);
      ink.lineTo(x + 5, y);
      ink.lineTo(x - 5, y);
      ink.closePath();
      ink.fill();
      label(words, x + 8, y + 14, "#e0a23a");
    }
  }

  function drawSubject() {
    if (!state.at.subject) return;
    const [az, foot, top] = state.at.subject.split(",").map(Number), x = X(az), wide = Math.max(6, (top - foot) *
      perDegree() * 0.35);
    ink.fillStyle = "#05070c";
    ink.strokeStyle = "#f1f3f2aa";
    ink.lineWidth = 1;
    ink.fillRect(x - wide / 2, Y(top), wide, Y(foot) - Y(top));
    ink.strokeRect(x - wide / 2, Y(top), wide, Y(foot) - Y(top));
    label("subject", x + wide / 2 + 5, Y(top) + 12, "#f1f3f2");
  }

  function drawPass() {
    if (!state.scene.pass) return;
    ink.strokeStyle = "#9ad0ff";
    ink.lineWidth = 2;
    path(state.scene.pass);
    ink.stroke();
    const [az, alt, t] = state.scene.pass[Math.floor(state.scene.pass.length / 2)];
    label(`station ${clock.format(new Date(t * 1000))}`, X(az) + 8, Y(alt) - 8, "#9ad0ff");
  }

  function cross(x, y, arm) {
    ink.beginPath();
    ink.moveTo(x - arm, y);
    ink.lineTo(x + arm, y);
    ink.moveTo(x, y - arm);
    ink.lineTo(x, y + arm);
    ink.stroke();
  }

  function drawPole() {
    if (!state.scene.pole) return;
    ink.strokeStyle = "#ff9aa0";
    ink.lineWidth = 1.4;
    ink.setLineDash([6, 5]);
    for (const guide of state.scene.pole.guides) {
      path(guide.line);
      ink.stroke();
    }
    ink.setLineDash([]);
    const [az, alt] = state.scene.pole.at, x = X(az), y = Y(alt);
    cross(x, y, 9);
    label("pole", x + 10, y - 6, "#ff9aa0");
    for (const [name, saz, salt] of state.scene.pole.stars)
      if (salt > 0) label(name, X(saz) + 6, Y(salt) + 4, "#ffc9cc");
  }

  function drawFrame() {
    const outline = state.scene.frame.outline;
    if (!outline.length) return; // near the Sun by day no frame is drawn
    path(outline, true);
    ink.strokeStyle = "#ffffff";
    ink.lineWidth = 2;
    ink.stroke();
    ink.strokeStyle = "#b4232c";
    ink.lineWidth = 1;
    ink.setLineDash([4, 4]);
    cross(X(state.scene.frame.az), Y(state.scene.frame.up), 8);
    ink.setLineDash([]);
  }

  function draw() {
    const w = box.clientWidth,
      ratio = devicePixelRatio || 1;
    const height = Math.round(Math.min(w * (narrow ? 0.8 : 0.385), innerHeight * 0.62, 98 * (w / state.at.span)));
    if (canvas.width !== Math.round(w * ratio) || canvas.height !== Math.round(height * ratio)) {
      canvas.width = Math.round(w * ratio);
      canvas.height = Math.round(height * ratio);
      canvas.style.width = `${w}px`;
      canvas.style.height = `${height}px`;
    }
    ink.setTransform(ratio, 0, 0, ratio, 0, 0);
    drawSky(w, height);
    drawGrid(w, height);
    if (!state.scene) return;
    drawStars();
    drawPole();
    drawPass();
    drawMoon();
    drawTarget();
    drawGround(w, height);
    drawSubject();
    drawFrame();
  }

  function inFrame(px, py) {
    if (!state.scene || !state.scene.frame.outline.length) return false;
    path(state.scene.frame.outline, true);
    const ratio = devicePixelRatio || 1;
    return ink.isPointInPath(px * ratio, py * ratio);
  }

  return {
    draw,
    inFrame,
    high,
    perDegree
  };
}
