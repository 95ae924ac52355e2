// Where the phone is, with its error, becomes the position of a new site or of a stand.
const button = document.getElementById("here");
const said = document.getElementById("here-said");
const REASONS = {
  1: "the phone was not allowed to tell its position",
  2: "the phone found no position",
  3: "the phone found no position in 20 s"
};

function fill(name, value) {
  const field = document.querySelector(`form [name="${name}"]`);
  field.value = value;
  field.dispatchEvent(new Event("change", {
    bubbles: true
  }));
}

function fillSite(coords, error) {
  fill("lat", coords.latitude.toFixed(5));
  fill("lon", coords.longitude.toFixed(5));
  if (coords.altitude !== null) fill("elevation", Math.round(coords.altitude));
  const notes = document.querySelector('form [name="notes"]');
  const kept = notes.value.split("\n").filter((line) => line && !line.startsWith("Position by the phone")).join("\n");
  fill("notes", `${kept}${kept ? "\n" : ""}Position by the phone, ${error}`);
  said.textContent = coords.altitude === null ? `${error}; fill in the elevation.` : `${error}.`;
}

function fillStand(coords, error) {
  fill("here_lat", coords.latitude.toFixed(6));
  fill("here_lon", coords.longitude.toFixed(6));
  fill("here_error", Math.max(1, Math.round(coords.accuracy)));
  said.textContent = `${error}.`;
  document.getElementById("stand-form").requestSubmit();
}

function found({
  coords
}) {
  const error = `± ${Math.max(1, Math.round(coords.accuracy))} m`;
  if (document.getElementById("stand-form")) fillStand(coords, error);
  else fillSite(coords, error);
}

if (navigator.geolocation && window.isSecureContext) {
  button.hidden = false;
  button.addEventListener("click", () => {
    said.textContent = "Asking the phone…";
    navigator.geolocation.getCurrentPosition(found, (error) => {
      said.textContent = `No position: ${REASONS[error.code]}. Type it, or use the map.`;
    }, {
      enableHighAccuracy: true,
      timeout: 20000,
      maximumAge: 0
    });
  });
}
