// Where no signal is: the pages of the day's work as they were this morning, and what they load. Own origin only; nothing is sent from here.
"use strict";

const VERSION = "{{version}}", PAGES = "vornet-pages", OF_ASSETS = "vornet-assets-", ASSETS = `${OF_ASSETS}${VERSION}`;
const LOADED = {{assets}};
const KEEP = /^\/(jobs|q)$|^\/jobs\/\d+(\/do|\/labels\.pdf)?$|^\/q\/\d+$/, PICTURE = /^\/jobs\/photos\//;
const PATIENCE_MS = 6000; // so long a weak signal is waited for
const EARLIER = 2;        // so many earlier versions are kept: a page loads what it was made with

self.addEventListener("install", (event) => event.waitUntil((async () => {
  await (await caches.open(ASSETS)).addAll(LOADED);
  await self.skipWaiting();
})()));
self.addEventListener("activate", (event) => event.waitUntil((async () => {
  const names = (await caches.keys()).filter((n) => n.startsWith(OF_ASSETS) && n !== ASSETS);
  for (const name of names.slice(0, Math.max(names.length - EARLIER, 0))) await caches.delete(name);
  await self.clients.claim();
})()));

self.addEventListener("fetch", (event) => {
  const url = new URL(event.request.url);
  if (url.origin !== location.origin || event.request.method !== "GET") return;
  if (url.pathname.startsWith("/static/")) event.respondWith(asset(event.request));
  else if (PICTURE.test(url.pathname)) event.respondWith(picture(event.request));
  else if (event.request.mode === "navigate") event.respondWith(page(event.request, url));
});

async function asset(request) {
  const found = await caches.match(request);
  if (found) return found;
  try { return await fetch(request); } catch { return (await caches.match(request, { ignoreSearch: true })) ?? Response.error(); }
}
async function picture(request) {
  return (await caches.match(request)) ?? fetch(request).catch(() => Response.error());
}
async function page(request, url) {
  const keeps = KEEP.test(url.pathname), known = keeps ? await (await caches.open(PAGES)).match(url.pathname) : null;
  const late = new Promise((_, no) => setTimeout(() => no(new Error("late")), PATIENCE_MS));
  late.catch(() => {});
  try {
    const asked = fetch(request), answer = await (known ? Promise.race([asked, late]) : asked);
    if (answer.status >= 502 && answer.status <= 504) throw new Error("away");
    if (answer.ok && keeps) await (await caches.open(PAGES)).put(url.pathname, answer.clone());
    return answer;
  } catch {
    return known ? marked(known) : away();
  }
}
// a kept page says of itself that it is kept: its clock and what it knows are of then
async function marked(found) {
  if (!found.headers.get("Content-Type")?.startsWith("text/html")) return found;
  const text = (await found.text()).replace("<body", "<body data-cached").replace('id="job"', 'id="job" data-cached');
  return new Response(text, { headers: found.headers });
}
async function away() {
  const paths = (await (await caches.open(PAGES)).keys()).map((r) => new URL(r.url).pathname).filter((p) => /\/do$|^\/q\/\d+$|^\/jobs$/.test(p));
  const list = paths.sort().map((p) => `<li><a href="${p}">${p === "/jobs" ? "The day's jobs" : p.endsWith("/do") ? `Job ${p.split("/")[2]}` : `Notes ${p.split("/")[2]}`}</a></li>`).join("");
  const sheet = LOADED.find((a) => a.includes("app.css"));
  return new Response(`<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>No connection</title><link rel="stylesheet" href="${sheet}"></head><body><main id="main"><section class="page narrow"><h1>No connection</h1><p class="lede">${list ? "This is kept on the phone:" : "Nothing is kept on this phone yet. Open the day's jobs once with a signal."}</p><ul class="choose">${list}</ul></section></main></body></html>`,
    { status: 503, headers: { "Content-Type": "text/html; charset=utf-8", "Content-Security-Policy": "default-src 'none'; style-src 'self'; font-src 'self'; img-src 'self'" } });
}

self.addEventListener("message", (event) => {
  const { keep, forget } = event.data ?? {}, back = event.ports[0];
  if (forget) event.waitUntil(caches.delete(PAGES).then(() => back?.postMessage({ forgotten: true })));
  if (keep) event.waitUntil((async () => {
    const store = await caches.open(PAGES);
    let kept = 0;
    for (const path of keep) {
      const answer = await fetch(path, { credentials: "same-origin", redirect: "error" }).catch(() => null);
      if (answer?.ok) { await store.put(path, answer); kept += 1; }
    }
    const wanted = new Set(keep); // yesterday's are let go, but never a job that somebody is in the middle of
    for (const request of await store.keys()) {
      const path = new URL(request.url).pathname;
      if (kept === keep.length && !wanted.has(path) && !(event.data.busy ?? []).some((b) => path.startsWith(b))) await store.delete(request);
    }
    back?.postMessage({ kept, of: keep.length });
  })());
});
