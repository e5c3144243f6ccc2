// The weeks in the hand: a visit is picked, tried on other days with its cost told, and dropped; by mouse, by finger and by keys.
"use strict";

(() => {
  const page = document.getElementById("weeks-page"), svg = document.getElementById("weeks"), panel = document.getElementById("picked");
  if (!page || !svg || !panel) return;
  const A = { first: svg.dataset.first, days: +svg.dataset.days, left: +svg.dataset.left, step: +svg.dataset.step, width: +svg.dataset.width };
  const day = 86400000, at = (iso) => Math.round((Date.parse(iso) - Date.parse(A.first)) / day);
  const visits = () => [...svg.querySelectorAll("a.visit")];
  let held = null;      // the visit that arrow keys or a finger move: {id, options, on}
  let dragging = null;  // {el, startX, id, moved}

  const options = () => {
    const el = document.getElementById("picked-visit");
    return el ? { id: el.dataset.visit, on: el.dataset.on, state: el.dataset.state, el, rows: JSON.parse(el.dataset.options) } : null;
  };
  const grouped = (x, digits) => Math.abs(x).toFixed(digits).replace(".", document.body.dataset.mark || ".");

  function say(row, O) {
    const [, words, loss, share, unused, room, there, inside, chance] = row, out = [`${words}:`];
    if (!there) out.push("the unit is not at its depot;");
    if (share !== null) out.push(`oil at ${Math.round(100 * share)} % of its life,`);
    if (unused > 0.05) out.push(`${grouped(unused * +O.el.dataset.litre, 1)} ${O.el.dataset.volume} of oil life unused,`);
    if (chance !== null) out.push(`chance that it is due before: ${Math.round(100 * chance)} %,`);
    if (room < -0.05) out.push(`${grouped(room, 1)} h more than there are,`);
    if (!inside) out.push(`outside its window (${O.el.dataset.earliest} to ${O.el.dataset.latest}),`);
    out.push(`costs ${grouped(loss, 1)} h.`);
    return out.join(" ");
  }

  function ghost(iso) {
    const x = A.left + at(iso) * A.step, el = document.getElementById("strip-ghost");
    if (el) el.setAttribute("x", x.toFixed(1));
    svg.querySelectorAll(".drop-day").forEach((e) => e.remove());
    const mark = document.createElementNS("http://www.w3.org/2000/svg", "rect");
    mark.setAttribute("class", "drop-day");
    mark.setAttribute("x", x.toFixed(1)); mark.setAttribute("y", "40"); mark.setAttribute("width", A.step.toFixed(2));
    mark.setAttribute("height", String(svg.viewBox.baseVal.height - 46));
    svg.prepend(mark);
  }

  function tryDay(iso) {
    const O = options();
    if (!O || O.state === "done") return false;
    const row = O.rows.find((r) => r[0] === iso);
    if (!row) return false;
    held = { id: O.id, on: iso };
    document.getElementById("picked-say").textContent = say(row, O);
    const select = document.getElementById("move-on");
    if (select) {
      if (![...select.options].some((o) => o.value === iso)) select.add(new Option(row[1], iso));
      select.value = iso;
    }
    ghost(iso);
    return true;
  }

  function letGo() {
    held = null;
    svg.querySelectorAll(".drop-day").forEach((e) => e.remove());
  }

  async function pick(el, focusBack) {
    const id = el.dataset.visit;
    if (!+id) return;
    const href = el.getAttribute("href"), asked = href.split("?")[1] || "";  // an SVG link's href is no text
    visits().forEach((v) => v.classList.toggle("picked", v === el));
    const answer = await fetch(`/weeks/visits/${id}?${asked}`, { headers: { "HX-Request": "true" } });
    if (!answer.ok) { location.href = href; return; }
    panel.innerHTML = await answer.text();
    history.replaceState(null, "", href);
    if (focusBack) el.focus();
  }

  function drop() {
    const form = document.getElementById("move-form"), O = options();
    if (!form || !held || !O || held.on === O.on) return letGo();
    form.requestSubmit();
  }

  svg.addEventListener("click", (event) => {
    const el = event.target.closest("a.visit");
    if (!el || !+el.dataset.visit || event.metaKey || event.ctrlKey) return;
    event.preventDefault();
    if (!dragging || !dragging.moved) pick(el, true);
  });

  // ---- drag: the cost is told before it is dropped; where it is not known yet nothing is
  const isoAt = (event) => {
    const box = svg.getBoundingClientRect(), x = (event.clientX - box.left) * A.width / box.width;
    const n = Math.floor((x - A.left) / A.step);
    if (n < 0 || n >= A.days) return null;
    return new Date(Date.parse(A.first) + n * day).toISOString().slice(0, 10);
  };
  svg.addEventListener("pointerdown", (event) => {
    const el = event.target.closest("a.visit");
    if (!el || !+el.dataset.visit || event.button) return;
    dragging = { el, id: el.dataset.visit, startX: event.clientX, moved: false, ready: null };
  });
  svg.addEventListener("dragstart", (event) => event.preventDefault());
  svg.addEventListener("pointermove", (event) => {
    if (!dragging) return;
    if (!dragging.moved && Math.abs(event.clientX - dragging.startX) < 6) return;
    if (!dragging.moved) {
      dragging.moved = true;
      svg.setPointerCapture(event.pointerId);
      dragging.el.classList.add("dragged");
      dragging.ready = pick(dragging.el, false);
    }
    const iso = isoAt(event), O = options();
    if (iso && O && O.id === dragging.id) tryDay(iso);
  });
  const end = async (event) => {
    if (!dragging) return;
    const was = dragging;
    was.el.classList.remove("dragged");
    if (was.moved) {
      const iso = isoAt(event);
      await was.ready;
      if (event.type === "pointerup" && iso && held && held.id === was.id && held.on === iso) drop(); else letGo();
    }
    setTimeout(() => { dragging = null; }, 0);
  };
  svg.addEventListener("pointerup", end);
  svg.addEventListener("pointercancel", end);

  // ---- keys: arrows walk along visits; a picked one is tried on other days
  document.addEventListener("keydown", (event) => {
    if (event.target.matches("input, textarea, select") || event.metaKey || event.ctrlKey || event.altKey) return;
    const el = event.target.closest && event.target.closest("a.visit"), O = options();
    const way = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (way && el) {
      event.preventDefault();
      if (O && O.id === el.dataset.visit && O.state !== "done") {
        const here = O.rows.findIndex((r) => r[0] === (held && held.id === O.id ? held.on : O.on));
        const next = O.rows[(here < 0 ? 0 : here) + way];
        if (next) tryDay(next[0]);
      } else {
        const all = visits(), i = all.indexOf(el);
        (all[i + way] || el).focus();
      }
    } else if (event.key === "Enter" && el && O && held && O.id === el.dataset.visit && held.id === O.id) {
      event.preventDefault();
      drop();
    } else if (event.key === "Escape" && O) {
      letGo();
      panel.textContent = "";
      visits().forEach((v) => v.classList.remove("picked"));
    } else if (event.key === "f" && O) {
      const form = document.getElementById("fix-form");
      if (form) { event.preventDefault(); form.requestSubmit(); }
    }
  });
  panel.addEventListener("change", (event) => { if (event.target.id === "move-on") tryDay(event.target.value); });
})();
