// How the phone is held, from its sensors, calmer than they are; or, at a desk, from the arrow keys.
import {
  alphaOf, held, wrapped
} from "./point-geometry.js";

const STEADY = 0.25; // share of the way to the newest reading that is gone with every picture
const SETTLED = 0.02; // degrees within which it is reached
const PATIENCE_MS = 2500; // until the page says that no orientation comes
const KEYS = {
  ArrowLeft: [-1, 0, 0],
  ArrowRight: [1, 0, 0],
  ArrowUp: [0, 1, 0],
  ArrowDown: [0, -1, 0],
  "[": [0, 0, -1],
  "]": [0, 0, 1]
};

export class Orientation {
  // reading: [azimuth by the phone's compass, altitude, roll]; north: whether its sensors know where north is;
  // pretend: the same by the arrow keys, which begin at ``desk``; ``changed`` is called at each change.
  constructor(desk, changed) {
    this.reading = null;
    this.north = false;
    this.pretend = null;
    this.desk = desk;
    this.changed = changed;
    this.newest = null;
    addEventListener("keydown", (event) => this.pressed(event));
  }

  // To be called by a tap: some browsers ask the person. Tells in words what is the matter, or nothing.
  async start(tell) {
    const asks = window.DeviceOrientationEvent && DeviceOrientationEvent.requestPermission;
    if (asks) {
      const answer = await DeviceOrientationEvent.requestPermission().catch(() => "denied");
      if (answer !== "granted") {
        tell("The phone keeps its orientation to itself.");
        return false;
      }
    }
    const turned = (event) => this.turned(event);
    addEventListener("deviceorientationabsolute", turned);
    addEventListener("deviceorientation", turned);
    setTimeout(() => {
      if (!this.reading && !this.pretend) tell("No orientation comes from this device.");
    }, PATIENCE_MS);
    return true;
  }

  turned(event) {
    if (event.alpha === null || event.beta === null) return;
    const heading = event.webkitCompassHeading;
    const knows = event.absolute || heading !== undefined;
    if (this.north && !knows) return;
    this.north = knows;
    const alpha = heading === undefined ? event.alpha : alphaOf(event.alpha, event.beta, event.gamma, heading);
    const angle = screen.orientation ? screen.orientation.angle : window.orientation || 0;
    this.newest = held(alpha, event.beta, event.gamma, angle);
    if (!this.reading) requestAnimationFrame(() => this.follow());
    this.reading = this.reading || this.newest;
    this.pretend = null;
    document.body.dataset.sensor = "yes";
    this.changed();
  }

  // The reading follows the phone with every picture.
  follow() {
    const {
      newest,
      reading
    } = this;
    const way = [wrapped(newest[0] - reading[0]), newest[1] - reading[1], wrapped(newest[2] - reading[2])];
    const far = Math.max(...way.map(Math.abs));
    if (far > 0) {
      const share = far < SETTLED ? 1 : STEADY;
      this.reading = reading.map((v, i) => v + way[i] * share);
      this.reading[0] = (this.reading[0] + 360) % 360;
      this.changed();
    }
    requestAnimationFrame(() => this.follow());
  }

  pressed(event) {
    const step = KEYS[event.key];
    if (!step || this.reading || ["INPUT", "SELECT", "TEXTAREA"].includes(event.target.tagName)) return;
    event.preventDefault();
    const far = event.shiftKey ? 10 : 1;
    const from = this.pretend || this.desk;
    this.pretend = [
      (from[0] + step[0] * far + 360) % 360,
      Math.max(-89, Math.min(89, from[1] + step[1] * far)),
      from[2] + step[2] * far
    ];
    this.changed();
  }
}
