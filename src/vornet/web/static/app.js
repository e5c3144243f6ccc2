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

// the lab inbox: walk along what waits; a letter opens its line, a digit takes a ready reason, Enter says yes, Escape no
function inboxKey(event) {
  const inbox = $("[data-inbox]");
  if (!inbox) return false;
  if (event.key === "j" || event.key === "k") {
    const places = $$(".waiting a", inbox);
    const here = places.findIndex((a) => a.closest(".here"));
    places[here + (event.key === "j" ? 1 : -1)]?.click();
    return places.length > 0;
  }
  const line = $(`[data-key="${CSS.escape(event.key)}"]`, inbox);
  if (!line) return false;
  if (line.matches("details")) line.open = true;
  const first = $("[data-first]", line) ?? $('input:not([type="hidden"])', line);
  if (first) { first.focus(); first.select?.(); } else line.requestSubmit();
  return true;
}
// a reason that is ready is taken by its digit while nothing has been typed, or by a click; none is there beforehand
function takeReady(button) {
  const words = $("[data-why]", button.form);
  words.value = button.lastChild.textContent.trim();
  words.focus();
}
document.addEventListener("keydown", (event) => {
  const words = event.target.closest?.("[data-why]");
  if (!words || words.value || event.ctrlKey || event.metaKey || event.altKey) return;
  const ready = $(`[data-ready="${CSS.escape(event.key)}"]`, words.form);
  if (ready) { event.preventDefault(); takeReady(ready); }
}, true);
document.addEventListener("click", (event) => {
  const ready = event.target.closest?.("[data-ready]");
  if (ready) takeReady(ready);
});
// Review: digits choose, letters go to a field or tick a box, s signs; nothing needs the mouse
function reviewKey(event) {
  const desk = $("[data-review]");
  if (!desk) return false;
  const form = $("[data-sign]", desk);
  const step = $(`[data-step="${CSS.escape(event.key)}"]`, desk);
  if (step) { step.click(); return true; }
  if (event.key === "o") { $("[data-open]", desk)?.click(); return true; }
  if (!form) return false;
  const verdict = $(`[data-verdict="${CSS.escape(event.key)}"]`, form);
  if (verdict) { verdict.checked = true; differs(form, true); return true; }
  switch (event.key) {
    case "s": form.requestSubmit(); return true;
    case "c": { const words = $("[data-comment]", form); words.focus(); words.select(); return true; }
    case "h": $("[data-cause]", form).focus(); return true;
    case "a": { const box = $("[data-action]", form); box.checked = !box.checked; if (box.checked) form.elements.action.focus(); return true; }
    case "r": { const box = $("[data-resample]", form); box.checked = !box.checked; return true; }
  }
  return false;
}
function differs(form, focus) {
  const proposed = form.dataset.proposed;
  const chosen = form.elements.verdict.value;
  const line = $(".reason", form);
  const other = Boolean(proposed) && chosen !== proposed;
  line.hidden = !other;
  line.querySelector("input").required = other;
  if (other && focus) line.querySelector("input").focus();
}
document.addEventListener("change", (event) => {
  const form = event.target.closest?.("[data-sign]");
  if (form && event.target.name === "verdict") differs(form, false);
});
document.addEventListener("click", (event) => {
  const phrase = event.target.closest?.("[data-phrase]");
  if (phrase) { const words = phrase.form.elements.comment; words.value = phrase.dataset.phrase; words.focus(); return; }
  const go = event.target.closest?.("[data-go]");
  if (go) htmx.ajax("GET", go.dataset.go, { target: "#review", swap: "innerHTML" });
});

// the next sample is fetched while this one is read, so that signing shows it at once; the signature follows behind
let ahead = null;
const signing = new Set();
async function fetchAhead() {
  const form = $("[data-review] [data-sign]");
  ahead = null;
  if (!form?.dataset.next) return;
  const after = form.dataset.sample;
  try {
    const answer = await fetch(form.dataset.next + [...signing, after].join(","), { headers: { "HX-Request": "true" } });
    if (answer.ok && $("[data-review] [data-sign]")?.dataset.sample === after) ahead = { after, html: await answer.text() };
  } catch { /* without it the signature brings the next one along */ }
}
function showReview(html) {
  const desk = $("#review");
  desk.innerHTML = html;
  htmx.process(desk);
  fetchAhead();
}
document.addEventListener("submit", (event) => {
  const form = event.target.closest?.("[data-sign]");
  if (!form) return;
  if (!ahead || ahead.after !== form.dataset.sample) { // the answer brings the next one: never one that is being signed
    const behind = form.elements.signing ?? form.appendChild(Object.assign(document.createElement("input"), { type: "hidden", name: "signing" }));
    behind.value = [...signing].join(",");
    return;
  }
  event.preventDefault();
  event.stopImmediatePropagation();
  const desk = $("#review"), was = [...desk.childNodes], id = form.dataset.sample, html = ahead.html;
  const body = new URLSearchParams(new FormData(form));
  signing.add(id);
  showReview(html);
  fetch(form.getAttribute("action"), { method: "POST", headers: { "HX-Request": "true", "X-Next-Is-There": "1" }, body, keepalive: true }).then(async (answer) => {
    signing.delete(id);
    if (answer.ok) return;
    if (answer.status === 422) { showReview(await answer.text()); return; }
    throw new Error(String(answer.status));
  }).catch(() => { // nothing typed is lost: the sample comes back as it was
    signing.delete(id);
    desk.replaceChildren(...was);
    const said = document.createElement("p");
    said.className = "banner error";
    said.setAttribute("role", "alert");
    said.textContent = "Not signed: the server could not be reached. What you typed is still here; sign it again.";
    desk.prepend(said);
  });
}, true);
if ($("[data-review]")) fetchAhead();
document.addEventListener("htmx:after:swap", (event) => {
  if (event.target?.id === "review" || $("[data-review]")?.contains(event.target)) fetchAhead();
  const here = $("[data-inbox] .waiting .here");
  here?.scrollIntoView({ block: "nearest" });
});

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
    const to = { b: "/", p: "/plan", d: "/jobs", l: "/lab", j: "/review", i: "/decide", r: "/library" }[event.key];
    if (to) { event.preventDefault(); location.href = to; return; }
  }
  if (inboxKey(event) || reviewKey(event)) { event.preventDefault(); return; }
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

// the zone this browser is in, where nobody has chosen another one
const zones = $("select[data-zone]");
if (zones && zones.value === "UTC") {
  const here = Intl.DateTimeFormat().resolvedOptions().timeZone;
  if ([...zones.options].some((o) => o.value === here)) zones.value = here;
}

// a day field reads what people write; the calendar behind its button only fills it in, its weeks beginning as its reader's do
const MONTHS = "Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split(" ");
function dayText(iso) {
  const [y, m, d] = iso.split("-");
  const styles = { iso, dots: `${d}.${m}.${y}`, day_first: `${d}/${m}/${y}`, month_first: `${m}/${d}/${y}` };
  return styles[document.body.dataset.dates] || `${Number(d)} ${MONTHS[Number(m) - 1]} ${y}`;
}
document.addEventListener("dblclick", (event) => {
  const field = event.target.closest?.("input[data-day]");
  if (field) pickDay(field);
});
document.addEventListener("keydown", (event) => {
  if (event.altKey && event.key === "ArrowDown" && event.target.matches?.("input[data-day]")) { event.preventDefault(); pickDay(event.target); }
});
document.addEventListener("click", (event) => {
  const field = event.target.closest?.("input[data-day]");
  if (field && event.offsetX > field.clientWidth - 30) pickDay(field);
});
// what is written in a field, where it is written as the calendar would
function writtenDay(text) {
  const n = text.trim().split(/[-./ ]+/), style = document.body.dataset.dates;
  const order = style === "iso" ? [0, 1, 2] : style === "month_first" ? [2, 0, 1] : [2, 1, 0];
  if (n.length !== 3) return NaN;
  const [y, m, d] = order.map((at) => (MONTHS.includes(n[at]) ? MONTHS.indexOf(n[at]) + 1 : Number(n[at])));
  return y > 999 && m && d ? new Date(y, m - 1, d).getTime() : NaN;
}
const isoDay = (date) => `${date.getFullYear()}-${String(date.getMonth() + 1).padStart(2, "0")}-${String(date.getDate()).padStart(2, "0")}`;
let calendar = null; // loaded when it is asked for
function pickDay(field) {
  const { calendar: address, week, today } = document.body.dataset;
  calendar ||= new Promise((there, gone) => {
    document.head.append(Object.assign(document.createElement("script"), { src: address, onload: there, onerror: gone }));
  });
  calendar.then(() => {
    if (field.datepicker) return;
    const written = writtenDay(field.value), kept = field.value;
    const open = new Datepicker(field, {
      weekStart: (Number(week) + 1) % 7, prevArrow: "‹", nextArrow: "›", showOnFocus: false, showOnClick: false, updateOnBlur: false, autohide: true,
      format: { toValue: writtenDay, toDisplay: (date) => dayText(isoDay(date)) },
      defaultViewDate: written || writtenDay(dayText(today)),
      beforeShowDay: (date) => (isoDay(date) === today ? { classes: "is-today" } : undefined),
    });
    field.value = kept; // what cannot be read stays as it was typed
    const away = () => { field.removeEventListener("beforeinput", away); open.destroy(); };
    field.addEventListener("beforeinput", away);
    field.addEventListener("changeDate", () => {
      field.dispatchEvent(new Event("input", { bubbles: true }));
      field.dispatchEvent(new Event("change", { bubbles: true }));
    });
    field.addEventListener("hide", () => setTimeout(away), { once: true });
    field.focus();
    open.show();
  }, () => { calendar = null; });
}

