// Keyboard, theme, drop zone and the ribbon's read-out. No state of its own: pages come from the server.
"use strict";

const $ = (selector, root = document) => root.querySelector(selector);
const $$ = (selector, root = document) => [...root.querySelectorAll(selector)];
const typing = (el) => el && (el.matches("input, textarea, select") || el.isContentEditable);

function isDark() {
  const set = document.documentElement.dataset.theme;
  return set ? set === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
}

document.addEventListener("click", (event) => {
  if (event.target.closest("[data-theme-switch]")) {
    const next = isDark() ? "light" : "dark";
    document.documentElement.dataset.theme = next;
    localStorage.setItem("theme", next);
    return;
  }
  const sample = event.target.closest("[data-sample]");
  if (sample) return openSample(sample);
  const row = event.target.closest("tr[data-href]");
  if (row && !event.target.closest("a, button, input, label, summary") && !getSelection().toString()) location.href = row.dataset.href;
  if (!event.target.closest(".find")) $("#found")?.replaceChildren();
  if (!event.target.closest(".who")) $(".who")?.removeAttribute("open");
});

function openSample(el) {
  const base = location.pathname.match(/^\/compartments\/\d+/);
  if (!base) return;
  htmx.ajax("GET", `${base[0]}/samples/${el.dataset.sample}`, { target: "#opened", swap: "innerHTML" }).then?.(() => {
    $("#opened")?.scrollIntoView({ block: "nearest", behavior: "smooth" });
  });
}

function say(el) {
  const line = $("#say");
  if (line && el?.dataset.say) line.textContent = el.dataset.say;
}
document.addEventListener("mouseover", (event) => say(event.target.closest?.("[data-say]")));
document.addEventListener("focusin", (event) => say(event.target.closest?.("[data-say]")));

// a property row opens the row under it
document.addEventListener("toggle", (event) => {
  if (event.target.matches?.("details[data-next-row]")) {
    const next = event.target.closest("tr").nextElementSibling;
    if (next) next.hidden = !event.target.open;
  }
}, true);

document.addEventListener("change", (event) => {
  if (event.target.matches("[data-submit]")) event.target.form.requestSubmit();
  if (event.target.matches('[data-dropzone] input[type="file"]')) showName(event.target);
});

// a list with ticks: tick all, and say how many are chosen
document.addEventListener("change", (event) => {
  const form = event.target.closest?.("[data-selection]");
  if (!form) return;
  const boxes = $$('input[name="id"]', form);
  if (event.target.matches("[data-pick-all]")) boxes.forEach((b) => { b.checked = event.target.checked; });
  const n = boxes.filter((b) => b.checked).length;
  const line = $(".chosen", form);
  if (line) line.textContent = n ? `${n} chosen` : "None chosen";
});

function showName(input) {
  const name = $(".chosen-name", input.form);
  if (name) name.textContent = input.files[0]?.name ?? "";
}

for (const zone of $$("[data-dropzone]")) {
  zone.addEventListener("dragover", (event) => { event.preventDefault(); zone.classList.add("over"); });
  zone.addEventListener("dragleave", () => zone.classList.remove("over"));
  zone.addEventListener("drop", (event) => {
    event.preventDefault();
    zone.classList.remove("over");
    const input = $('input[type="file"]', zone);
    if (event.dataTransfer.files.length) { input.files = event.dataTransfer.files; showName(input); zone.requestSubmit(); }
  });
}

for (const strip of $$(".drawing")) strip.scrollLeft = strip.scrollWidth;

let row = -1;
function walkRows(step) {
  const rows = $$("table[data-rows] tbody tr[data-href]");
  if (!rows.length) return;
  row = Math.min(Math.max(row + step, 0), rows.length - 1);
  rows.forEach((r) => r.classList.remove("here"));
  rows[row].classList.add("here");
  $("a", rows[row])?.focus();
  rows[row].scrollIntoView({ block: "nearest" });
}

function walkSamples(step) {
  const drops = $$(".ribbon .drop[data-sample]");
  if (!drops.length) return false;
  const at = drops.indexOf(document.activeElement);
  const next = at < 0 ? (step > 0 ? 0 : drops.length - 1) : Math.min(Math.max(at + step, 0), drops.length - 1);
  drops[next].focus();
  return true;
}

let leader = false;
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === "Escape") {
    $("#found")?.replaceChildren();
    if (typing(document.activeElement)) document.activeElement.blur();
    return;
  }
  const find = $("#find");
  if (document.activeElement === find && event.key === "ArrowDown") { event.preventDefault(); $("#found a")?.focus(); return; }
  if (document.activeElement === find && event.key === "Enter") {
    const first = $("#found a");
    if (first) { event.preventDefault(); first.click(); }
    return;
  }
  if (event.target.closest?.("#found") && ["ArrowDown", "ArrowUp"].includes(event.key)) {
    event.preventDefault();
    const links = $$("#found a");
    const at = links.indexOf(document.activeElement) + (event.key === "ArrowDown" ? 1 : -1);
    (links[at] ?? find).focus();
    return;
  }
  if (typing(document.activeElement)) return;
  if (leader) {
    leader = false;
    const to = { b: "/", p: "/plan", d: "/jobs", l: "/lab", i: "/decide", r: "/library" }[event.key];
    if (to) { event.preventDefault(); location.href = to; return; }
  }
  switch (event.key) {
    case "/": event.preventDefault(); find?.focus(); find?.select(); break;
    case "?": $("#keys")?.showModal(); break;
    case "g": leader = true; setTimeout(() => { leader = false; }, 1200); break;
    case "j": walkRows(1); break;
    case "k": walkRows(-1); break;
    case "ArrowRight": if (walkSamples(1)) event.preventDefault(); break;
    case "ArrowLeft": if (walkSamples(-1)) event.preventDefault(); break;
    case "Enter": {
      const drop = document.activeElement?.closest?.(".drop[data-sample]");
      if (drop) openSample(drop);
      break;
    }
  }
});
