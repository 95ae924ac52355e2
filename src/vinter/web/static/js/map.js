// The map: coasts, towns and glow come from the server for the region in view; nothing here computes a sky.
"use strict";

window.vinterMap = (element, view) => {
  const map = L.map(element, { zoomControl: true, attributionControl: false, preferCanvas: true, worldCopyJump: true, minZoom: 3, maxZoom: view.deepest || 14 }).setView(view.centre, view.zoom);
  map.createPane("glow").style.zIndex = 250;
  map.createPane("lines").style.zIndex = 300;
  const base = "/sites/map/";
  const lines = L.layerGroup([], { pane: "lines" }).addTo(map), towns = L.layerGroup().addTo(map);
  let glow = null, asked = 0;

  const box = (grow) => {
    const b = map.getBounds().pad(grow);
    return [Math.max(b.getSouth(), -84), b.getWest(), Math.min(b.getNorth(), 84), b.getEast()].map((v) => v.toFixed(4)).join(",");
  };

  async function drawLines(turn) {
    const response = await fetch(`${base}lines.json?box=${box(0.15)}`);
    if (!response.ok || turn !== asked) return;
    const found = await response.json();
    lines.clearLayers();
    for (const line of found.lines) {
      L.polyline(line.points, { pane: "lines", color: "#10213f", weight: line.coast ? 1.1 : 0.7, opacity: line.coast ? 0.9 : 0.45, dashArray: line.coast ? null : "5 4", interactive: false }).addTo(lines);
    }
  }

  // Names are set where they do not overlap, largest town first.
  async function drawTowns(turn) {
    const response = await fetch(`${base}towns.json?box=${box(0)}`);
    if (!response.ok || turn !== asked) return;
    const found = await response.json(), taken = [];
    towns.clearLayers();
    for (const town of found.towns) {
      const at = map.latLngToContainerPoint([town.lat, town.lon]);
      const size = Math.max(1.5, 1.1 * Math.log10(town.people) - 2.2);
      L.circleMarker([town.lat, town.lon], { radius: size, stroke: false, fillColor: "#7a4d05", fillOpacity: 0.85, interactive: false }).addTo(towns);
      const label = { left: at.x, right: at.x + 14 + town.name.length * 7, top: at.y - 9, bottom: at.y + 9 };
      if (taken.length > 22 || taken.some((t) => t.left < label.right && t.right > label.left && t.top < label.bottom && t.bottom > label.top)) continue;
      taken.push(label);
      L.marker([town.lat, town.lon], { interactive: false, keyboard: false, icon: L.divIcon({ className: "town", html: town.name.replace(/[<&>]/g, ""), iconAnchor: [-5, 8], iconSize: null }) }).addTo(towns);
    }
  }

  async function drawGlow(turn) {
    if (map.getZoom() > 13) { if (glow) { glow.remove(); glow = null; } return; }
    const response = await fetch(`${base}glow.png?box=${box(0.1)}`);
    if (turn !== asked) return;
    if (response.status !== 200) { if (glow) { glow.remove(); glow = null; } return; }
    const [south, west, north, east] = response.headers.get("X-Box").split(",").map(Number);
    const next = L.imageOverlay(URL.createObjectURL(await response.blob()), [[south, west], [north, east]], { pane: "glow", interactive: false }).addTo(map);
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
};

window.vinterMark = (map, place, label, kind) =>
  L.marker(place, { icon: L.divIcon({ className: `mark ${kind}`, html: `<i></i><span>${label.replace(/[<&>]/g, "")}</span>`, iconSize: null, iconAnchor: [6, 6] }), title: label, alt: label, riseOnHover: true }).addTo(map);

document.addEventListener("DOMContentLoaded", () => {
  const element = document.getElementById("map"), marks = document.getElementById("marks");
  if (!element || !marks) return;
  const sites = JSON.parse(marks.textContent);
  const first = sites[0] || { lat: 38, lon: -8 };
  const query = new URLSearchParams(location.search);
  const map = window.vinterMap(element, { centre: query.get("at") ? query.get("at").split(",").map(Number) : [first.lat, first.lon], zoom: Number(query.get("zoom")) || 8 });
  const near = sites.filter((s) => map.distance([s.lat, s.lon], [first.lat, first.lon]) < 400e3);
  if (!query.get("at") && near.length > 1) map.fitBounds(L.latLngBounds(near.map((s) => [s.lat, s.lon])).pad(0.35), { animate: false });
  for (const site of sites) {
    window.vinterMark(map, [site.lat, site.lon], site.name, site.home ? "home" : "site").on("click", () => { location.href = site.url; });
    if (site.home) for (const km of [25, 50, 100]) {
      L.circle([site.lat, site.lon], { radius: km * 1000, color: "#b4232c", weight: 0.9, opacity: 0.65, fill: false, dashArray: "2 5", interactive: false }).addTo(map);
      L.marker([site.lat + km / 111.2, site.lon], { interactive: false, keyboard: false, icon: L.divIcon({ className: "ring", html: `${km} km`, iconSize: null, iconAnchor: [18, 8] }) }).addTo(map);
    }
  }
  map.on("moveend", () => {
    const c = map.getCenter();
    history.replaceState(null, "", `?at=${c.lat.toFixed(4)},${c.lng.toFixed(4)}&zoom=${map.getZoom()}`);
  });
  map.on("click", async (event) => {
    const { lat, lng } = event.latlng.wrap();
    const response = await fetch(`/sites/map/point.json?lat=${lat.toFixed(5)}&lon=${lng.toFixed(5)}`);
    if (!response.ok) return;
    const sky = await response.json();
    const text = document.createElement("div");
    const link = Object.assign(document.createElement("a"), { href: `${element.dataset.add}?lat=${lat.toFixed(5)}&lon=${lng.toFixed(5)}`, textContent: "Add a site here" });
    text.append(`${sky.zenith.toFixed(1)} ± 0.4 mag/arcsec² by the model, class ${sky.classes}`, document.createElement("br"), sky.town ? `brightest: ${sky.town}` : "", document.createElement("br"), link);
    L.popup({ className: "reads" }).setLatLng(event.latlng).setContent(text).openOn(map);
  });
});
