// Keeps field pages and what they need, from the first visit on: the network first, the copy when there is no
// signal, when the server is down, or when the session ended out there.
"use strict";
const CACHE = "vinter-field-3";
const SHARE = "/field/share/";
const SHARED = "vinter-shared"; // by this name the page that sends them finds them
const PARTS = {
  html: /(?:src|href)="(\/static\/[^"]+|\/field\/[^"]+)"/g,
  javascript: /from\s*"(\.\/[^"]+)"/g,
  css: /url\(["']?([^"')]+)["']?\)/g
};

// A page, style or script and all that it names, kept; field pages one link deep.
async function keep(address, depth, seen) {
  const url = new URL(address, location.origin);
  if (url.origin !== location.origin || seen.has(url.href) || url.pathname.endsWith("worker.js")) return;
  seen.add(url.href);
  const cache = await caches.open(CACHE);
  const response = await fetch(url.href, {
    credentials: "same-origin"
  });
  if (!response.ok || response.redirected) return;
  await cache.put(url.href, response.clone());
  const type = response.headers.get("Content-Type") || "";
  const kind = Object.keys(PARTS).find((k) => type.includes(k));
  if (!kind) return;
  const text = await response.text();
  for (const found of text.matchAll(PARTS[kind])) {
    const next = new URL(found[1], url.href);
    const page = next.pathname.startsWith("/field/") && !next.pathname.includes(".");
    if (page && depth < 1) continue;
    await keep(next.href, page ? depth - 1 : depth, seen).catch(() => {});
  }
}

self.addEventListener("install", (event) => {
  event.waitUntil(self.skipWaiting());
});
self.addEventListener("activate", (event) => {
  event.waitUntil((async () => {
    for (const name of await caches.keys())
      if (name.startsWith("vinter-field") && name !== CACHE) await caches.delete(name);
    await self.clients.claim();
  })());
});
// The page says that it is open: it and the pages of its card are fetched once more and kept.
self.addEventListener("message", (event) => {
  if (event.data && event.data.keep) event.waitUntil((async () => {
    const seen = new Set();
    for (const address of [event.data.keep, SHARE]) await keep(address, 1, seen).catch(() => {});
    if (event.source) event.source.postMessage({
      kept: event.data.keep
    });
  })());
});
// Pictures that are shared wait on the phone until the page they lead to has sent them: signed out, without signal
// or with the server down they are not lost.
async function putBy(request) {
  const passedOn = request.clone();
  try {
    const form = await request.formData();
    const cache = await caches.open(SHARED);
    for (const file of form.getAll("files"))
      if (file instanceof File && file.size) await cache.put(`/field/shared/${crypto.randomUUID()}`, new Response(file, {
        headers: {
          "X-Name": encodeURIComponent(file.name || "picture.jpg"),
          "Content-Type": file.type || "application/octet-stream"
        }
      }));
    return Response.redirect(new URL(request.url).pathname, 303);
  } catch (error) {
    return fetch(passedOn); // no room on the phone: straight home
  }
}

self.addEventListener("fetch", (event) => {
  const url = new URL(event.request.url);
  if (event.request.method === "POST" && event.request.mode === "navigate" && url.pathname === SHARE) {
    event.respondWith(putBy(event.request));
    return;
  }
  if (event.request.method !== "GET" || url.origin !== location.origin) return;
  event.respondWith((async () => {
    const cache = await caches.open(CACHE);
    const copy = () => cache.match(event.request, {
      ignoreVary: true
    });
    try {
      const response = await fetch(event.request);
      if (response.ok && !response.redirected) {
        cache.put(event.request, response.clone());
        return response;
      }
      const away = response.redirected || response.type === "opaqueredirect" || response.status >= 500;
      return (away && await copy()) || response;
    } catch (error) {
      const kept = await copy();
      if (kept) return kept;
      throw error;
    }
  })());
});
