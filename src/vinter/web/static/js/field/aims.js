// Aims at known things take out what the phone's compass is off by; they are kept with a card and grow old.
import {
  aimsSay, wrapped
} from "./point-geometry.js";
import {
  keepNote
} from "./waiting.js";

const LASTING = 40 * 60; // s that an aim is believed
const OLD = 20 * 60; // s after which the page asks for a new one
const MOST = 6; // aims that are kept
const now = () => Date.now() / 1000;

export class Aims {
  constructor(shot) {
    this.key = `vinter-aims-${shot}`;
    try {
      this.all = JSON.parse(localStorage.getItem(this.key)) || [];
    } catch (error) {
      this.all = [];
    }
  }

  // What they say: azimuth and altitude shown too large by, or null.
  get error() {
    return aimsSay(this.all, now(), LASTING);
  }

  // The phone points, by [azimuth (true, by its compass), altitude], at something known [name, azimuth, altitude].
  add(shown, known) {
    const off = {
      name: known[0],
      azimuth: wrapped(shown[0] - known[1]),
      altitude: shown[1] - known[2]
    };
    this.all = [...this.all, {
      t: now(),
      ...off
    }].slice(-MOST);
    keepNote("aim", off);
    try {
      localStorage.setItem(this.key, JSON.stringify(this.all));
    } catch (error) {
      /* it holds as long as the page is open */
    }
  }

  // Where the phone points, true: the compass with its declination, less what the aims say it is off.
  corrected(reading, declination) {
    const error = this.error || {
      azimuth: 0,
      altitude: 0
    };
    return [(reading[0] + declination - error.azimuth + 360) % 360, reading[1] - error.altitude, reading[2]];
  }

  // How far the compass is to be believed, in words.
  words(north) {
    const {
      error
    } = this;
    if (!error && !north) return "This device does not say where north is: aim at something known, then the arrow is right.";
    if (!error) return "The compass is not checked: a car, a clamp or a lamp turns it by 5 to 20°. Aim at something known.";
    const off = `The compass was ${Math.abs(error.azimuth).toFixed(1)}° off, by ${error.name}, ` +
      `${Math.round(error.age / 60)} min ago`;
    const two = error.apart === null ? "" : error.apart <= 2 ? `; two aims agree to ${error.apart.toFixed(1)}°` :
      `; two aims disagree by ${error.apart.toFixed(0)}°: aim again`;
    return `${off}${two}. ${error.age > OLD ? "That is long ago: aim again." : ""}`;
  }
}
