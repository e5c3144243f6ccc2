// Pages kept for where no signal is, and sending what waits on this phone from whatever page is open.
"use strict";

(() => {
const body = document.body, who = body.dataset.who;
if (!who || !("serviceWorker" in navigator)) return;
const Q = JobQueue, jobPage = document.getElementById("job");

function ask(worker, message) {
  return new Promise((yes) => {
    const line = new MessageChannel();
    line.port1.onmessage = (event) => yes(event.data);
    worker.postMessage(message, [line.port2]);
  });
}
async function worker() {
  await navigator.serviceWorker.register("/sw.js");
  return (await navigator.serviceWorker.ready).active;
}

// another person on this phone: the pages of the one before are let go, what waits stays
const before = Q.read("vornet-who", null);
const changed = before !== null && before !== who && !body.hasAttribute("data-cached");

// what this phone knows of jobs that are no longer kept and have nothing waiting
async function tidy(pages) {
  const waits = new Set((await Q.waiting().catch(() => [])).map((w) => String(w.job)));
  for (const name of Object.keys(localStorage)) {
    const job = /^vornet-job-(\d+)(-known|-token)?$/.exec(name)?.[1];
    if (job && !waits.has(job) && !pages.includes(`/jobs/${job}/do`)) Q.drop(name);
  }
}

async function keepDay() {
  const active = await worker();
  if (changed) await ask(active, { forget: true });
  Q.write("vornet-who", who);
  const line = document.getElementById("away-say");
  if (body.hasAttribute("data-cached")) { if (line) line.textContent = "No connection: these are the jobs as they were kept on this phone."; return; }
  // whenever the day's page is opened; on a phone once a day from any other
  if (!line && (!matchMedia("(pointer: coarse)").matches || Q.read("vornet-kept", {}).day === new Date().toDateString())) return;
  const asked = await fetch("/jobs/away.json").catch(() => null);
  if (!asked?.ok) return;
  const { pages } = await asked.json(), busy = (await Q.waiting()).map((w) => `/jobs/${w.job}`);
  const { kept, of } = await ask(active, { keep: pages, busy });
  if (kept === of) await tidy(pages);
  Q.write("vornet-kept", { day: new Date().toDateString(), kept });
  if (line) line.textContent = kept === of ? `Kept on this phone: ${kept} ${kept === 1 ? "page" : "pages"}. They open without a signal.` : `${kept} of ${of} pages kept on this phone.`;
}

// what waits, said in the header of every page but the job's own
let going = false;
async function sendAll() {
  if (going) return;
  going = true;
  const notes = await globalThis.Notes?.flush().catch(() => null);
  const left = jobPage ? [] : await Q.sendAll().catch(() => []);
  const count = left.reduce((sum, w) => sum + w.entries + w.photos, 0) + (globalThis.Notes?.waiting().length ?? 0);
  const badge = document.getElementById("waits");
  if (badge) { badge.hidden = !count; badge.textContent = `${count} ${count === 1 ? "waits" : "wait"} on this phone`; }
  going = false;
  return notes;
}
addEventListener("online", sendAll);
setInterval(sendAll, 8000);
addEventListener("load", () => { sendAll(); keepDay().catch(() => {}); });
document.querySelector('form[action="/sign-out"]')?.addEventListener("submit", () => {
  navigator.serviceWorker.controller?.postMessage({ forget: true });
  tidy([]);
});
})();
