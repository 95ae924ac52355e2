// The map of the sites: marks, rings of distance from home, and what the sky is like at a click.
import {
  mark,
  skyMap
} from "./map.js";

function start() {
  const element = document.getElementById("map"),
    marks = document.getElementById("marks");
  if (!element || !marks) return;
  const sites = JSON.parse(marks.textContent);
  const first = sites[0] || {
    lat: 38,
    lon: -8
  };
  const query = new URLSearchParams(location.search);
  const inMiles = document.documentElement.dataset.units === "imperial";
  const map = skyMap(element, {
    centre: query.get("at") ? query.get("at").split(",").map(Number) : [first.lat, first
      .lon
    ],
    zoom: Number(query.get("zoom")) || 8
  });
  const near = sites.filter((s) => map.distance([s.lat, s.lon], [first.lat, first.lon]) < 400e3);
  if (!query.get("at") && near.length > 1) map.fitBounds(L.latLngBounds(near.map((s) => [s.lat, s.lon])).pad(
    0.35), {
    animate: false
  });
  for (const site of sites) {
    mark(map, [site.lat, site.lon], site.name, site.home ? "home" : "site").on("click", () => {
      location.href = site
        .url;
    });
    if (site.home)
      for (const km of [25, 50, 100]) {
        L.circle([site.lat, site.lon], {
          radius: km * 1000,
          color: "#b4232c",
          weight: 0.9,
          opacity: 0.65,
          fill: false,
          dashArray: "2 5",
          interactive: false
        }).addTo(map);
        L.marker([site.lat + km / 111.2, site.lon], {
          interactive: false,
          keyboard: false,
          icon: L
            .divIcon({
              className: "ring",
              html: inMiles ? `${Math.round(km * 0.62137)} mi` : `${km} km`,
              iconSize: null,
              iconAnchor: [18, 8]
            })
        }).addTo(map);
      }
  }
  if (!sites.length && !query.get("at")) {
    const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
    fetch(`${element.dataset.zone}?tz=${encodeURIComponent(zone)}`).then((r) => r.json()).then((at) => {
      if (at.lat !== undefined) map.setView([at.lat, at.lon], 8, {
        animate: false
      });
    }).catch(() => {});
  }
  map.on("moveend", () => {
    const c = map.getCenter();
    history.replaceState(null, "", `?at=${c.lat.toFixed(4)},${c.lng.toFixed(4)}&zoom=${map.getZoom()}`);
  });
  map.on("click", async (event) => {
    const {
      lat,
      lng
    } = event.latlng.wrap();
    const response = await fetch(`${element.dataset.point}?lat=${lat.toFixed(5)}&lon=${lng.toFixed(5)}`);
    if (!response.ok) return;
    const sky = await response.json();
    const text = document.createElement("div");
    const link = Object.assign(document.createElement(
      "a"), {
      href: `${element.dataset.add}?lat=${lat.toFixed(5)}&lon=${lng.toFixed(5)}`,
      textContent: "Add a site here"
    });
    text.append(`${sky.zenith.toFixed(1)} ± ${sky.error} mag/arcsec² by the model, class ${sky.classes}`, document
      .createElement("br"), sky.town ? `brightest: ${sky.town}` : "", document.createElement("br"), link);
    L.popup({
      className: "reads"
    }).setLatLng(event.latlng).setContent(text).openOn(map);
  });
}

start();
