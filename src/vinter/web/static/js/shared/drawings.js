// Lays a drawing out anew for a narrow page: places move together, words keep their size.
// A drawing names where its plot begins and ends (data-start, else 0, and data-plot); what stands left or right
// of that keeps its distance.
const NARROW = matchMedia("(max-width: 640px)");
const LINE = 15; // px from one line of words to the next
const PLACES = {
  line: ["x1", "x2"],
  rect: ["x", "width"],
  image: ["x", "width"],
  circle: ["cx"],
  text: ["x"],
  path: ["d"],
  polyline: ["points"]
};
const drawn = new WeakMap(); // each drawing's attributes as the server made them

// Where a place lies when a plot of one width is drawn at another.
export function placed(x, plot, width, start = 0) {
  if (x <= start) return x;
  return x < plot ? start + ((x - start) * (width - start)) / (plot - start) : x - plot + width;
}

const short = (x) => String(Math.round(x * 100) / 100);

// A path of absolute commands with each x placed; relative ones keep their size.
export function placedPath(d, plot, width, start = 0) {
  return d.replace(/([A-Za-z])([^A-Za-z]*)/g, (_, command, rest) => {
    if (command === "V" || command === command.toLowerCase()) return command + rest;
    const numbers = rest.match(/-?[\d.]+/g) || [];
    const across = (i) => command === "H" || i % 2 === 0;
    const at = (n) => short(placed(Number(n), plot, width, start));
    return command + numbers.map((n, i) => (across(i) ? at(n) : n)).join(" ");
  });
}

export function placedPoints(points, plot, width, start = 0) {
  return points.replace(/(-?[\d.]+)[ ,](-?[\d.]+)/g, (_, x, y) => `${short(placed(Number(x), plot, width, start))},${y}`);
}

function value([, attribute, old, x], plot, width, start) {
  const at = (place) => placed(place, plot, width, start);
  if (attribute === "d") return placedPath(old, plot, width, start);
  if (attribute === "points") return placedPoints(old, plot, width, start);
  if (attribute === "width") return short(at(x + Number(old)) - at(x));
  return short(at(Number(old)));
}

function asMade(svg) {
  if (!drawn.has(svg)) {
    const kept = [];
    for (const [name, attributes] of Object.entries(PLACES)) {
      for (const element of svg.querySelectorAll(name)) {
        const x = Number(element.getAttribute("x") || 0);
        for (const attribute of attributes) {
          if (element.hasAttribute(attribute)) kept.push([element, attribute, element.getAttribute(attribute), x]);
        }
      }
    }
    const texts = [...svg.querySelectorAll("text")].map((e) => [e, e.getAttribute("text-anchor"), e.textContent.trim()]);
    drawn.set(svg, { kept, texts, box: svg.getAttribute("viewBox").split(" ").map(Number) });
  }
  return drawn.get(svg);
}

// Words that are wider than the drawing go on in a line below; how many lines were added.
function wrapped(text, words, room) {
  const per = Math.max(8, Math.floor((words.length * room) / text.getBBox().width));
  const lines = words.match(new RegExp(`.{1,${per}}(\\s|$)`, "g")) || [words];
  text.replaceChildren(...lines.map((line, i) => {
    const span = document.createElementNS(text.namespaceURI, "tspan");
    span.textContent = line.trim();
    span.setAttribute("x", text.getAttribute("x"));
    if (i) span.setAttribute("dy", LINE);
    return span;
  }));
  return lines.length - 1;
}

const apart = (a, b) => a.x + a.width + 3 < b.x || b.x + b.width + 3 < a.x || Math.abs(a.y - b.y) > 8;

// Of words that would run into each other the later ones are left out; a window's times make room.
function thinned(texts) {
  const shown = [];
  for (const [text] of texts) {
    const inTheWay = shown.find((other) => !apart(other.getBBox(), text.getBBox()));
    if (inTheWay && text.classList.contains("decide")) {
      inTheWay.setAttribute("text-anchor", "end");
      text.setAttribute("text-anchor", "start");
    } else if (inTheWay) text.setAttribute("visibility", "hidden");
    if (text.getAttribute("visibility") !== "hidden") shown.push(text);
  }
}

function lay(svg) {
  const room = svg.parentElement.clientWidth;
  if (!room) return;
  const { kept, texts, box: [left, top, whole, height] } = asMade(svg);
  const plot = Number(svg.dataset.plot);
  const width = NARROW.matches ? Math.max(120, room - (whole - plot)) : plot;
  for (const [text, anchor, words] of texts) {
    text.textContent = words;
    text.removeAttribute("visibility");
    if (anchor) text.setAttribute("text-anchor", anchor);
    else text.removeAttribute("text-anchor");
  }
  const start = Number(svg.dataset.start || 0);
  for (const one of kept) {
    one[0].setAttribute(one[1], width === plot ? one[2] : value(one, plot, width, start));
  }
  svg.setAttribute("viewBox", [left, top, whole - plot + width, height].join(" "));
  if (width === plot) return;
  let lines = 0;
  for (const [text, , words] of texts) {
    const box = text.getBBox();
    if (box.width > width && words.includes(" ")) lines += wrapped(text, words, width);
  }
  if (lines) svg.setAttribute("viewBox", [left, top, whole - plot + width, height + lines * LINE].join(" "));
  thinned(texts);
}

export function layDrawings(root = document) {
  for (const svg of root.querySelectorAll("svg[data-plot]")) lay(svg);
}

// Lay the drawings of this page, and again whenever its width changes or a part of it is shown or comes in.
export function followWidth() {
  layDrawings();
  addEventListener("resize", () => layDrawings());
  document.addEventListener("toggle", (event) => layDrawings(event.target), true);
  document.addEventListener("htmx:load", (event) => layDrawings(event.detail.elt));
}
