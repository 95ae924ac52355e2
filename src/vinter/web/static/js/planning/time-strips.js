// The night's strip, wide or narrow, is the handle of time: what is dragged on one is told to `moved` in seconds.
export function timeStrips(moved) {
  const strips = [...document.querySelectorAll(".time")].map((holder) => {
    const svg = holder.querySelector("svg"),
      cursor = document.createElementNS("http://www.w3.org/2000/svg", "line");
    cursor.setAttribute("class", "cursor");
    cursor.setAttribute("y1", -6);
    cursor.setAttribute("y2", 50);
    svg.append(cursor);
    return {
      svg,
      cursor,
      start: Number(holder.dataset.start),
      end: Number(holder.dataset.end),
      width: Number(holder.dataset.width)
    };
  });
  for (const s of strips) {
    const follow = (event) => {
      const r = s.svg.getBoundingClientRect(),
        v = s.svg.viewBox.baseVal,
        x = ((event.clientX - r.left) / r.width) * v.width + v.x;
      moved(s.start + (x / s.width) * (s.end - s.start));
    };
    s.svg.addEventListener("pointerdown", (event) => {
      s.svg.setPointerCapture(event.pointerId);
      follow(event);
    });
    s.svg.addEventListener("pointermove", (event) => {
      if (event.buttons) follow(event);
    });
  }
  return {
    within: (t) => (strips.length ? Math.max(strips[0].start, Math.min(strips[0].end, t)) : t),
    show(t) {
      for (const s of strips)
        for (const k of ["x1", "x2"]) s.cursor.setAttribute(k, ((t - s.start) / (s.end - s.start)) * s.width);
    }
  };
}
