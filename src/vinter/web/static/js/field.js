// Field pages are kept by a service worker where the browser allows it (localhost and HTTPS).
if ("serviceWorker" in navigator) navigator.serviceWorker.register("/field/worker.js", {
  scope: "/field/"
}).catch(
  () => {});
