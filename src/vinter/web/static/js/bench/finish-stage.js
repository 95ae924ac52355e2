// The picture and how it is shown: whole or a part at full size, beside what it was, one zone, names.
import {
  fromShares,
  toShares
} from "./finish-recipe.js";
import {
  token
} from "../shared/token.js";

const STEP = 120; // px that an arrow moves a part by
const SLACK = 2; // px that rounding takes
const DRAFT = {
  most: 800,
  least: 500,
  step: 100
}; // px of the longer side of a draft
const PACE = {
  slow: 60,
  quick: 35,
  of: 3
}; // ms that drafts may take, or have to spare; of how many the median is judged

export class Stage {
  constructor(root, editor) {
    this.root = root;
    this.editor = editor;
    this.box = document.getElementById("stage");
    this.picture = document.getElementById("picture");
    this.before = document.getElementById("picture-before");
    this.split = document.getElementById("split");
    this.zoom = 0;
    this.middle = [0.5, 0.5];
    this.compare = "";
    this.show = "";
    this.share = 0.5;
    this.shown = null;
    this.drawing = null;
    this.flying = null;
    this.pending = null;
    this.askedPx = 0;
    this.draftPx = DRAFT.most;
    this.took = [];
    this.shape = null;
    this.listen();
  }

  // The address of a picture: draft or full size, or the part that is looked at.
  address(size, before) {
    const query = new URLSearchParams({
      size
    });
    if (before) query.set("before", "1");
    if (this.show && !before) query.set("show", this.show);
    if (this.zoom) {
      const two = this.compare === "two" ? 2 : 1;
      query.set("x", this.middle[0].toFixed(5));
      query.set("y", this.middle[1].toFixed(5));
      query.set("w", Math.max(Math.round(this.box.clientWidth / this.zoom / two), 16));
      query.set("h", Math.max(Math.round(this.box.clientHeight / this.zoom), 16));
    } else query.set("wide", size === "draft" ? this.draftPx : Math.max(this.needed(), 16));
    return `${this.root.dataset.draw}?${query}`;
  }

  // Px of the screen that the longer side of a whole picture takes, if it is shaped as the last one was.
  needed() {
    const room = [this.box.clientWidth, this.box.clientHeight];
    const [wide, high] = this.shape || room;
    const fits = Math.min(room[0] / wide, room[1] / high);
    return Math.ceil(fits * Math.max(wide, high) * window.devicePixelRatio);
  }

  // Whether a whole picture has fewer px than the screen shows of it.
  short() {
    return !this.zoom && this.needed() > this.askedPx + SLACK;
  }

  // Drafts keep up with the hand: of fewer px where they come too slowly, of more again where there is time.
  paced(ms) {
    this.took.push(ms);
    if (this.took.length < PACE.of) return;
    const usual = this.took.sort((a, b) => a - b)[Math.floor(PACE.of / 2)];
    this.took = [];
    if (usual > PACE.slow) this.draftPx = Math.max(this.draftPx - DRAFT.step, DRAFT.least);
    else if (usual < PACE.quick) this.draftPx = Math.min(this.draftPx + DRAFT.step, DRAFT.most);
  }

  async fetched(recipe, size, before) {
    const answer = await fetch(this.address(size, before), {
      method: "POST",
      body: JSON.stringify(recipe),
      headers: {
        "Content-Type": "application/json",
        "X-CSRFToken": token()
      }
    });
    if (!answer.ok) throw new Error(await answer.text());
    return [JSON.parse(answer.headers.get("X-Vinter")), URL.createObjectURL(await answer.blob())];
  }

  async put(image, url, figures) {
    const old = image.src;
    image.src = url;
    await image.decode().catch(() => {});
    if (this.zoom) image.style.width = `${figures.size[0] * this.zoom}px`;
    else image.style.width = "";
    if (old.startsWith("blob:")) URL.revokeObjectURL(old);
  }

  // One request in flight, the newest waiting; done when the newest is shown.
  draw(recipe, size, before = false) {
    this.pending = [recipe, size, before];
    this.flying ||= this.asked();
    this.drawing ||= this.drawAll();
    return this.drawing;
  }

  // Ask for what waits, if anything does.
  asked() {
    if (!this.pending) return null;
    const [recipe, size, before] = this.pending;
    this.pending = null;
    this.askedPx = this.needed();
    const sent = this.editor.sent(recipe);
    const answer = this.fetched(sent, size, before);
    answer.catch(() => {}); // its fault is told when its turn comes
    return {
      sent,
      size,
      before,
      answer,
      at: performance.now()
    };
  }

  // While a picture is put on the screen, the next is drawn already.
  async drawAll() {
    while ((this.flying ||= this.asked())) {
      const {
        sent,
        size,
        before,
        answer,
        at
      } = this.flying;
      try {
        const [figures, url] = await answer.finally(() => (this.flying = this.asked()));
        if (size === "draft" && !this.zoom) this.paced(performance.now() - at);
        this.shown = figures;
        if (!this.zoom) this.shape = figures.size;
        await this.put(this.picture, url, figures);
        this.picture.dataset.ready = size;
        this.editor.seen(figures);
        if (this.compare && size === "full") await this.drawBefore(sent);
        this.arrange();
      } catch (error) {
        document.getElementById("limits").textContent = error.message;
      }
      if (size === "full" && this.short()) this.pending ||= [sent, size, before];
    }
    this.drawing = null;
  }

  async drawBefore(recipe) {
    const key = `${this.address("full", true)} ${JSON.stringify(recipe.geometry)}`;
    if (this.beforeKey === key) return;
    const [figures, url] = await this.fetched(recipe, "full", true);
    await this.put(this.before, url, figures);
    this.beforeKey = key;
  }

  arrange() {
    const {
      box,
      picture,
      before,
      split
    } = this;
    box.classList.toggle("part", this.zoom > 0);
    box.classList.toggle("two", this.compare === "two");
    before.hidden = !this.compare;
    split.hidden = this.compare !== "split";
    split.style.left = `${100 * this.share}%`;
    before.style.clipPath = this.compare === "split" ? `inset(0 ${100 * (1 - this.share)}% 0 0)` : "";
    document.getElementById("tag-left").textContent = this.compare ? "as stacked" : "";
    const scale = this.zoom ? `${100 * this.zoom} %` : this.shown ?
      `${Math.round((100 * picture.clientWidth) / this.shown.size[0] * this.shown.scale)} %` : "";
    document.getElementById("tag").textContent = this.shown ? `finished · ${scale}` : "";
    const canvas = document.getElementById("strokes");
    const [wide, high] = [picture.clientWidth, picture.clientHeight];
    if (canvas.width !== wide || canvas.height !== high) Object.assign(canvas, {
      width: wide,
      height: high
    });
    else if (this.editor.tool) canvas.getContext("2d").clearRect(0, 0, wide, high); // the picture shows it now
    for (const b of this.root.querySelectorAll("[data-zoom]")) {
      b.setAttribute("aria-pressed", String(Number(b.dataset.zoom) === this.zoom));
    }
    for (const b of this.root.querySelectorAll("[data-compare]")) {
      b.setAttribute("aria-pressed", String(b.dataset.compare === this.compare));
    }
    for (const b of this.root.querySelectorAll("[data-show]")) {
      b.setAttribute("aria-pressed", String(b.dataset.show === this.show));
    }
    this.label();
    this.editor.drawn();
  }

  // Shares of the whole picture under a pointer.
  place(e) {
    const box = this.picture.getBoundingClientRect();
    const x = ((e.clientX - box.left) / box.width) * this.shown.size[0],
      y = ((e.clientY - box.top) / box.height) * this.shown.size[1];
    return toShares(this.shown.to_shares, x, y).map((v) => Math.max(0, Math.min(1, Math.round(v * 1e5) / 1e5)));
  }

  setZoom(zoom, about = null) {
    if (about) this.middle = about;
    this.zoom = zoom;
    this.editor.redraw();
  }

  setCompare(kind) {
    this.compare = this.compare === kind ? "" : kind;
    this.editor.redraw();
  }

  setShow(kind) {
    this.show = this.show === kind ? "" : kind;
    this.editor.redraw();
  }

  move(dx, dy) {
    if (!this.zoom || !this.shown) return;
    const [a, b] = [this.shown.to_shares[0][0], this.shown.to_shares[1][1]];
    this.middle = [this.middle[0] + (a * dx) / this.zoom, this.middle[1] + (b * dy) / this.zoom]
      .map((v) => Math.max(0, Math.min(1, v)));
    this.editor.redraw();
  }

  async toggleNames() {
    const button = document.getElementById("with-names"),
      svg = document.getElementById("names"),
      labels = document.getElementById("labels");
    if (!button) return;
    if (!this.figures) this.figures = await (await fetch(this.root.dataset.names)).json();
    svg.toggleAttribute("hidden");
    labels.hidden = svg.hasAttribute("hidden");
    button.setAttribute("aria-pressed", String(!labels.hidden));
    this.label();
  }

  label() {
    const svg = document.getElementById("names"),
      labels = document.getElementById("labels");
    if (!this.figures || labels.hidden || !this.shown) return;
    const [w, h] = this.shown.size;
    const to = (x, y) => fromShares(this.shown.to_shares, x, y);
    svg.setAttribute("viewBox", `0 0 ${w} ${h}`);
    svg.replaceChildren(...this.figures.lines.map((l) => {
      const line = document.createElementNS("http://www.w3.org/2000/svg", "line");
      const [x1, y1] = to(l[0], l[1]), [x2, y2] = to(l[2], l[3]);
      Object.entries({
        x1,
        y1,
        x2,
        y2
      }).forEach(([k, v]) => line.setAttribute(k, v));
      return line;
    }));
    labels.replaceChildren(...this.figures.names.map(([x, y, name]) => {
      const span = document.createElement("span"),
        [px, py] = to(x, y);
      span.textContent = name;
      span.style.left = `${(100 * px) / w}%`;
      span.style.top = `${(100 * py) / h}%`;
      return span;
    }));
  }

  listen() {
    const {
      root,
      box
    } = this;
    root.querySelector(".switches").addEventListener("click", (e) => {
      const b = e.target.closest("button");
      if (!b) return;
      if (b.dataset.zoom) this.setZoom(Number(b.dataset.zoom));
      else if (b.dataset.compare) this.setCompare(b.dataset.compare);
      else if (b.dataset.show) this.setShow(b.dataset.show);
      else if (b.id === "with-names") this.toggleNames();
    });
    box.addEventListener("dblclick", (e) => {
      if (!this.editor.tool && this.shown) this.setZoom(this.zoom ? 0 : 1, this.place(e));
    });
    let drag = null;
    box.addEventListener("pointerdown", (e) => {
      if (this.editor.tool || !this.shown) return;
      drag = e.target === this.split ? "split" : this.zoom ? "pan" : null;
      if (drag) box.setPointerCapture(e.pointerId);
    });
    box.addEventListener("pointermove", (e) => {
      if (drag === "split") {
        const r = this.picture.getBoundingClientRect();
        this.share = Math.max(0, Math.min(1, (e.clientX - r.left) / r.width));
        this.arrange();
      } else if (drag === "pan") this.move(-e.movementX, -e.movementY);
    });
    for (const end of ["pointerup", "pointercancel"]) box.addEventListener(end, () => {
      drag = null;
    });
    window.addEventListener("resize", () => {
      this.arrange();
      if (this.shown && this.short()) this.editor.redraw();
    });
  }

  key(e) {
    const arrows = {
      ArrowLeft: [-STEP, 0],
      ArrowRight: [STEP, 0],
      ArrowUp: [0, -STEP],
      ArrowDown: [0, STEP]
    };
    if (arrows[e.key] && this.zoom && e.target === this.box) this.move(...arrows[e.key]);
    else if (arrows[e.key] && this.compare === "split" && e.target === this.box) {
      this.share = Math.max(0, Math.min(1, this.share + Math.sign(arrows[e.key][0]) * 0.05));
      this.arrange();
    } else if ("123".includes(e.key)) this.setZoom(Number(e.key) - 1);
    else if (e.key === "d") this.setCompare("split");
    else if (e.key === "t") this.setCompare("two");
    else if (e.key === "n") this.toggleNames();
    else if ("sgmc".includes(e.key)) this.setShow({
      s: "sky",
      g: "ground",
      m: "mask",
      c: "clipped"
    } [e.key]);
    else return false;
    return true;
  }
}
