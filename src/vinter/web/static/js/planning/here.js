// Where the phone is becomes the position of a new site, with its error in the notes.
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

function found({
  coords
}) {
  const error = `± ${Math.max(1, Math.round(coords.accuracy))} m`;
  fill("lat", coords.latitude.toFixed(5));
  fill("lon", coords.longitude.toFixed(5));
  if (coords.altitude !== null) fill("elevation", Math.round(coords.altitude));
  const notes = document.querySelector('form [name="notes"]');
  const kept = notes.value.split("\n").filter((line) => line && !line.startsWith("Position by the phone")).join("\n");
  fill("notes", `${kept}${kept ? "\n" : ""}Position by the phone, ${error}`);
  said.textContent = coords.altitude === null ? `${error}; fill in the elevation.` : `${error}.`;
}

if (navigator.geolocation && window.isSecureContext) {
  button.hidden = false;
  button.addEventListener("click", () => {
    said.textContent = "Asking the phone…";
    navigator.geolocation.getCurrentPosition(found, (error) => {
      said.textContent = `No position: ${REASONS[error.code]}. Use the map, or type it.`;
    }, {
      enableHighAccuracy: true,
      timeout: 20000,
      maximumAge: 0
    });
  });
}
