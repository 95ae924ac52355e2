// Keeps field pages and what they need: the network first, the copy when there is no signal.
"use strict";
const CACHE = "vinter-field-1";
self.addEventListener("install", (event) => {
  event.waitUntil(self.skipWaiting());
});
self.addEventListener("activate", (event) => {
  event.waitUntil(self.clients.claim());
});
self.addEventListener("fetch", (event) => {
  const url = new URL(event.request.url);
  if (event.request.method !== "GET" || url.origin !== location.origin) return;
  event.respondWith((async () => {
    const cache = await caches.open(CACHE);
    try {
      const response = await fetch(event.request);
      if (response.ok && !response.redirected) cache.put(event.request, response.clone());
      return response;
    } catch (error) {
      const kept = await cache.match(event.request);
      if (kept) return kept;
      throw error;
    }
  })());
});
