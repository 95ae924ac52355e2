// Stands and subject on the map; a click moves the subject into the form.
import {
  mark,
  skyMap
} from "./map.js";

function start() {
  const element = document.getElementById("stands"),
    drawn = JSON.parse(document.getElementById("drawn").textContent);
  const middle = drawn.subject || drawn.site;
  const map = skyMap(element, {
    centre: middle,
    zoom: drawn.subject ? 15 : 14,
    deepest: 19
  });
  mark(map, drawn.site, "site", "site");
  if (drawn.subject) mark(map, drawn.subject, "subject", "subject");
  if (drawn.stands.length) {
    L.polyline(drawn.stands.map((s) => [s.lat, s.lon]), {
      color: "#b4232c",
      weight: 1.5,
      dashArray: "3 4",
      interactive: false
    }).addTo(map);
    map.fitBounds(L.latLngBounds([...drawn.stands.map((s) => [s.lat, s.lon]), drawn.subject]).pad(
      0.3), {
      maxZoom: 19,
      animate: false
    });
    const labelled = [map.latLngToContainerPoint(drawn.subject)];
    for (const s of drawn.stands) {
      const at = map.latLngToContainerPoint([s.lat, s.lon]),
        free = labelled.every((o) => Math.abs(o.x - at.x) > 62 || Math.abs(o.y - at.y) > 20);
      if (free) labelled.push(at);
      mark(map, [s.lat, s.lon], free ? s.label : "", "stand");
    }
  }
  if (drawn.here) mark(map, drawn.here, "you", "site");
  L.control.scale({
    imperial: false
  }).addTo(map);
  map.on("click", (event) => {
    const {
      lat,
      lng
    } = event.latlng.wrap(), form = document.getElementById("stand-form").elements;
    form.lat.value = lat.toFixed(6);
    form.lon.value = lng.toFixed(6);
    form.bearing.value = form.metres.value = "";
  });
}

start();
