// The map: coasts, towns and glow come from the server for the region in view; nothing here computes a sky.

const MOST_LABELS = 30;

// A map of an element, whose data name where lines, towns and glow come from.
export function skyMap(element, view) {
  const map = L.map(element, {
    zoomControl: true,
    attributionControl: false,
    preferCanvas: true,
    worldCopyJump: true,
    minZoom: 3,
    maxZoom: view.deepest || 14
  }).setView(view.centre, view.zoom);
  map.createPane("glow").style.zIndex = 250;
  map.createPane("lines").style.zIndex = 300;
  const from = element.dataset;
  const lines = L.layerGroup([], {
      pane: "lines"
    }).addTo(map),
    towns = L.layerGroup().addTo(map);
  let glow = null,
    asked = 0;

  const box = (grow) => {
    const b = map.getBounds().pad(grow);
    return [Math.max(b.getSouth(), -84), b.getWest(), Math.min(b.getNorth(), 84), b.getEast()].map((v) => v
      .toFixed(4)).join(",");
  };

  async function drawLines(turn) {
    const response = await fetch(`${from.lines}?box=${box(0.15)}`);
    if (!response.ok || turn !== asked) return;
    const found = await response.json();
    lines.clearLayers();
    for (const line of found.lines) {
      L.polyline(line.points, {
        pane: "lines",
        color: "#10213f",
        weight: line.coast ? 1.1 : 0.7,
        opacity: line
          .coast ? 0.9 : 0.45,
        dashArray: line.coast ? null : "5 4",
        interactive: false
      }).addTo(lines);
    }
  }

  // What the marks and their labels cover, in pixels of the map.
  function marked() {
    const at = map.getContainer().getBoundingClientRect();
    return [...map.getContainer().querySelectorAll(".mark, .ring")].map((e) => e.getBoundingClientRect()).map((b) => ({
      left: b.left - at.left,
      right: b.right - at.left,
      top: b.top - at.top,
      bottom: b.bottom - at.top
    }));
  }

  // Names are set where they do not overlap, largest town first.
  async function drawTowns(turn) {
    const response = await fetch(`${from.towns}?box=${box(0)}`);
    if (!response.ok || turn !== asked) return;
    const found = await response.json(),
      taken = marked();
    towns.clearLayers();
    for (const town of found.towns) {
      const at = map.latLngToContainerPoint([town.lat, town.lon]);
      const size = Math.max(1.5, 1.1 * Math.log10(town.people) - 2.2);
      L.circleMarker([town.lat, town.lon], {
        radius: size,
        stroke: false,
        fillColor: "#7a4d05",
        fillOpacity: 0.85,
        interactive: false
      }).addTo(towns);
      const label = {
        left: at.x,
        right: at.x + 14 + town.name.length * 7,
        top: at.y - 9,
        bottom: at.y + 9
      };
      if (taken.length > MOST_LABELS || taken.some((t) => t.left < label.right && t.right > label.left && t.top < label
          .bottom && t.bottom > label.top)) continue;
      taken.push(label);
      L.marker([town.lat, town.lon], {
        interactive: false,
        keyboard: false,
        icon: L.divIcon({
          className: "town",
          html: town.name.replace(/[<&>]/g, ""),
          iconAnchor: [-5, 8],
          iconSize: null
        })
      }).addTo(towns);
    }
  }

  async function drawGlow(turn) {
    if (map.getZoom() > 13) {
      if (glow) {
        glow.remove();
        glow = null;
      }
      return;
    }
    const response = await fetch(`${from.glow}?box=${box(0.1)}`);
    if (turn !== asked) return;
    if (response.status !== 200) {
      if (glow) {
        glow.remove();
        glow = null;
      }
      return;
    }
    const [south, west, north, east] = response.headers.get("X-Box").split(",").map(Number);
    const next = L.imageOverlay(URL.createObjectURL(await response.blob()), [
      [south, west],
      [north, east]
    ], {
      pane: "glow",
      interactive: false
    }).addTo(map);
    if (glow) glow.remove();
    glow = next;
  }

  function draw() {
    asked += 1;
    drawLines(asked).then(() => drawTowns(asked)).then(() => drawGlow(asked)).catch(() => {});
  }
  map.on("moveend", draw);
  draw();
  return map;
}

// A mark with its label.
export function mark(map, place, label, kind) {
  return L.marker(place, {
    icon: L.divIcon({
      className: `mark ${kind}`,
      html: `<i></i><span>${label.replace(/[<&>]/g, "")}</span>`,
      iconSize: null,
      iconAnchor: [6, 6]
    }),
    title: label,
    alt: label,
    riseOnHover: true
  }).addTo(map);
}
