// Pictures at one angular scale: what is dragged in one moves in all, by the same angle.
function start() {
  const pair = document.getElementById("pair");
  if (!pair) return;
  const sides = [...pair.querySelectorAll(".viewer")].map((box) => ({
    box,
    image: box.querySelector("img"),
    scale: Number(box.dataset.scale)
  }));
  const finest = Math.min(...sides.map((s) => s.scale));
  const state = {
    x: 0,
    y: 0,
    zoom: 1,
    flipped: 0
  }; // x, y in arcseconds from the middle of each picture
  const note = document.getElementById("magnified");

  function arrange() {
    for (const {
        box,
        image,
        scale
      }
      of sides) {
      const size = state.zoom * (scale / finest);
      image.style.width = `${image.naturalWidth * size}px`;
      image.style.left = `${box.clientWidth / 2 - (image.naturalWidth / 2 + state.x / scale) * size}px`;
      image.style.top = `${box.clientHeight / 2 - (image.naturalHeight / 2 + state.y / scale) * size}px`;
      image.style.imageRendering = size >= 1 ? "pixelated" : "auto";
    }
    const coarser = (state.zoom * Math.max(...sides.map((s) => s.scale))) / finest;
    const zooms = [state.zoom, coarser].map((v) => `${Math.round(100 * v)} %`);
    note.textContent = `The finest one at ${zooms[0]}, the coarsest at ${zooms[1]}. Drag to move all, f flips.`;
  }

  const own = sides.map((s) => ({
    picture: s.box.dataset.picture,
    scale: s.scale,
    name: s.image.alt
  }));

  function flip() {
    state.flipped = (state.flipped + 1) % sides.length;
    const [first] = sides, {
      picture,
      scale,
      name
    } = own[state.flipped];
    first.image.src = picture;
    first.scale = scale;
    first.box.querySelector(".tag").textContent = name;
  }

  pair.addEventListener("pointerdown", (e) => pair.setPointerCapture(e.pointerId));
  pair.addEventListener("pointermove", (e) => {
    if (!e.buttons) return;
    state.x -= (e.movementX * finest) / state.zoom;
    state.y -= (e.movementY * finest) / state.zoom;
    arrange();
  });
  pair.addEventListener("wheel", (e) => {
    e.preventDefault();
    state.zoom = Math.max(0.1, Math.min(4, state.zoom * (e.deltaY < 0 ? 1.25 : 0.8)));
    arrange();
  }, {
    passive: false
  });
  document.addEventListener("keydown", (e) => {
    if (e.ctrlKey || e.metaKey || e.altKey || e.target.matches("input, select, textarea")) return;
    const step = (60 * finest) / state.zoom;
    if (e.key === "ArrowLeft") state.x -= step;
    else if (e.key === "ArrowRight") state.x += step;
    else if (e.key === "ArrowUp") state.y -= step;
    else if (e.key === "ArrowDown") state.y += step;
    else if (e.key === "+") state.zoom = Math.min(4, state.zoom * 1.25);
    else if (e.key === "-") state.zoom = Math.max(0.1, state.zoom * 0.8);
    else if (e.key === "0") Object.assign(state, {
      x: 0,
      y: 0,
      zoom: 1
    });
    else if (e.key === "f") {
      flip();
      e.preventDefault();
      return;
    } else return;
    e.preventDefault();
    arrange();
  });
  for (const {
      box,
      image
    }
    of sides) {
    image.addEventListener("load", arrange);
    image.src = box.dataset.picture;
  }
  window.addEventListener("resize", arrange);
}

start();
