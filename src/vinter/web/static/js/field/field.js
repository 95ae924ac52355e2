// Field pages are kept by a service worker where the browser allows it (localhost and HTTPS): at the first visit
// this page, its styles and scripts, and the pages of its card. Elsewhere the page says that it will not open again.
async function keepForTheField() {
  if (!isSecureContext || !("serviceWorker" in navigator)) {
    const warning = document.getElementById("unkept");
    if (warning) warning.hidden = false;
    document.documentElement.dataset.kept = "no";
    return;
  }
  const mark = document.getElementById("kept");
  navigator.serviceWorker.addEventListener("message", (event) => {
    if (event.data.kept && mark) mark.textContent = "· kept, works without signal";
    document.documentElement.dataset.kept = "yes";
  });
  await navigator.serviceWorker.register("/field/worker.js", {
    scope: "/field/"
  });
  const ready = await navigator.serviceWorker.ready;
  ready.active.postMessage({
    keep: location.href
  });
}

keepForTheField().catch(() => {});
