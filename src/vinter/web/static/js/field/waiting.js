// What is written in the field waits on the phone until it was sent home, and is sent once: each thing has a key of
// its own, by which what was sent twice is stored once.
const BASE = "vinter-field-notes";
const STORE = "waiting";

let opened = null; // the base, opened once, so that a note is on its way to it at once

function base() {
  opened = opened || new Promise((done, failed) => {
    const asked = indexedDB.open(BASE, 1);
    asked.onupgradeneeded = () => asked.result.createObjectStore(STORE, {
      keyPath: "key"
    });
    asked.onsuccess = () => done(asked.result);
    asked.onerror = () => {
      opened = null;
      failed(asked.error);
    };
  });
  return opened;
}

async function inStore(mode, work) {
  const db = await base();
  return new Promise((done, failed) => {
    const change = db.transaction(STORE, mode);
    const asked = work(change.objectStore(STORE));
    change.oncomplete = () => done(asked ? asked.result : undefined);
    change.onerror = () => failed(change.error);
  });
}

function newKey() {
  if (crypto.randomUUID) return crypto.randomUUID();
  return [...crypto.getRandomValues(new Uint8Array(16))].map((b) => b.toString(16).padStart(2, "0")).join("");
}

function tokenNow() {
  const cookie = document.cookie.match(/(?:^|; )csrftoken=([^;]+)/);
  return cookie ? cookie[1] : document.body.dataset.token;
}

async function tell(words) {
  const place = document.getElementById("waits");
  if (!place) return;
  const waiting = (await inStore("readonly", (store) => store.getAll())).length;
  place.hidden = waiting === 0;
  place.textContent = waiting ? `${waiting} ${waiting > 1 ? "things wait" : "thing waits"} on this phone to be sent${words || ""}.` :
    "";
  document.body.dataset.waiting = String(waiting);
}

// One thing more to be sent; only where there is a page to send it to.
export async function keepNote(kind, data) {
  const url = document.body.dataset.notes;
  if (!url) return;
  await inStore("readwrite", (store) => store.put({
    key: newKey(),
    url,
    kind,
    at: Date.now() / 1000,
    data
  }));
  await tell();
  sendNotes();
}

let sending = false;

// Everything that waits, to where each belongs; what the server took or will never take is forgotten here.
export async function sendNotes() {
  if (sending || !tokenNow()) return;
  sending = true;
  let words = "";
  try {
    const rows = await inStore("readonly", (store) => store.getAll());
    for (const url of new Set(rows.map((row) => row.url))) {
      const answer = await fetch(url, {
        method: "POST",
        headers: {
          "Content-Type": "application/json",
          "X-CSRFToken": tokenNow()
        },
        body: JSON.stringify({
          now: Date.now() / 1000,
          notes: rows.filter((row) => row.url === url).map(({
            key,
            kind,
            at,
            data
          }) => ({
            key,
            kind,
            at,
            data
          }))
        })
      });
      if (answer.redirected || answer.status === 403) {
        words = "; sign in, then they go";
        continue;
      }
      if (!answer.ok && answer.status !== 404) continue;
      const taken = answer.status === 404 ? rows.filter((row) => row.url === url).map((row) => row.key) :
        (await answer.json()).taken;
      for (const key of taken) await inStore("readwrite", (store) => store.delete(key));
    }
  } catch (error) {
    words = "";
  } finally {
    sending = false;
  }
  await tell(words);
}

if (typeof indexedDB !== "undefined" && document.body.dataset.notes) {
  tell();
  sendNotes();
  window.addEventListener("online", sendNotes);
  document.addEventListener("visibilitychange", () => {
    if (!document.hidden) sendNotes();
  });
  setInterval(sendNotes, 60000);
}
