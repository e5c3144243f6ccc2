// What waits on this phone until the server has it: entries of jobs in local storage, photos in the browser's database. Whatever page is
// opened next sends them; each carries its own id, so that twice sent is once kept.
"use strict";

globalThis.JobQueue = (() => {
const key = (id, what = "") => `vornet-job-${id}${what}`;
function read(name, otherwise) { try { return JSON.parse(localStorage.getItem(name)) ?? otherwise; } catch { return otherwise; } }
// false where the phone has no room left
function write(name, value) { try { localStorage.setItem(name, JSON.stringify(value)); return true; } catch { return false; } }
const drop = (name) => { try { localStorage.removeItem(name); } catch { /* nothing there */ } };

// how far this phone's clock is ahead of the server's, ms; null while nobody has said
let skew = read("vornet-skew", null);
function clock(server) { skew = Date.now() - server; write("vornet-skew", skew); }

// one batch of a job's entries to the server: its answer, or what stopped it: "no connection", "ended", "busy"
async function send(id, token, queue) {
  const batch = queue.slice(0, 200).map((e) => ({ ...e, skew: e.skew ?? skew ?? 0 }));
  let answer;
  try {
    answer = await fetch(`/jobs/${id}/entries`, { method: "POST", headers: { "Content-Type": "application/json", "X-Job-Key": token }, body: JSON.stringify({ entries: batch }) });
  } catch { return "no connection"; }
  if (answer.status === 401 || answer.status === 403) return "ended";
  if (!answer.ok) return "busy";
  const said = await answer.json();
  if (said.now) clock(said.now);
  return said;
}

// ---- photos ----
const shelf = () => new Promise((yes, no) => {
  const open = indexedDB.open("vornet-photos", 1);
  open.onupgradeneeded = () => open.result.createObjectStore("photos", { keyPath: "id" });
  open.onsuccess = () => yes(open.result);
  open.onerror = () => no(open.error);
});
async function inShelf(mode, work) {
  const db = await shelf();
  return new Promise((yes, no) => {
    const move = db.transaction("photos", mode), request = work(move.objectStore("photos"));
    move.oncomplete = () => yes(request.result);
    move.onerror = move.onabort = () => no(move.error ?? request.error);
  });
}
const photos = async (job) => (await inShelf("readonly", (s) => s.getAll())).filter((p) => job == null || p.job === job);
// bytes and not a file: some browsers let go of files that were taken before a restart
async function keepPhoto(photo, file) {
  const bytes = await file.arrayBuffer();
  await inShelf("readwrite", (s) => s.put({ ...photo, bytes, type: file.type }));
}
const dropPhoto = (id) => inShelf("readwrite", (s) => s.delete(id));
// sends a job's photos; told(id, why) of each that is settled
async function sendPhotos(job, token, told = () => {}) {
  for (const photo of await photos(job)) {
    const form = new FormData();
    form.set("id", photo.id);
    if (photo.part != null) form.set("part", photo.part);
    form.set("about", photo.about);
    form.set("place", photo.place ?? "");
    form.set("file", photo.file ?? new Blob([photo.bytes], { type: photo.type }), "photo");
    let answer;
    try { answer = await fetch(`/jobs/${job}/photos`, { method: "POST", headers: { "X-Job-Key": token }, body: form }); } catch { return; }
    if (!(answer.ok || answer.status === 422 || answer.status === 413)) return;
    await dropPhoto(photo.id);
    told(photo, answer.ok ? "" : (await answer.json().catch(() => ({}))).detail ?? "it is too large");
  }
}

// every job that has something waiting here: {job, entries, photos}
async function waiting() {
  const found = new Map();
  const of = (job) => found.get(job) ?? found.set(job, { job, entries: 0, photos: 0 }).get(job);
  for (let i = 0; i < localStorage.length; i++) {
    const match = /^vornet-job-(\d+)$/.exec(localStorage.key(i)), n = match ? read(match[0], []).length : 0;
    if (n) of(Number(match[1])).entries = n;
  }
  for (const photo of await photos().catch(() => [])) of(photo.job).photos += 1;
  return [...found.values()];
}

// send all that waits, of jobs whose pages are closed too; how many could not go
async function sendAll() {
  for (const { job } of await waiting()) {
    const token = read(key(job, "-token"), null);
    if (!token) continue;
    for (let queue = read(key(job), []); queue.length; queue = read(key(job), [])) {
      const answer = await send(job, token, queue);
      if (typeof answer === "string") break;
      const settled = new Set([...answer.kept, ...answer.refused.map((r) => r.id)]);
      const told = read(key(job, "-refused"), []);
      write(key(job, "-refused"), [...told, ...answer.refused]);
      write(key(job), read(key(job), []).filter((e) => !settled.has(e.id)));
      write(key(job, "-known"), { entries: answer.entries, parts: answer.parts });
    }
    await sendPhotos(job, token).catch(() => {});
  }
  return waiting();
}

return { key, read, write, drop, send, sendAll, waiting, photos, keepPhoto, dropPhoto, sendPhotos, clock, skew: () => skew };
})();
