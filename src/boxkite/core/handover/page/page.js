// The page: finding shots, playing them, saying what is to be said of them.
"use strict";

(() => {
  const $ = (id) => document.getElementById(id);
  const data = JSON.parse($("shots-data").textContent);
  const kept = (() => { try { return window.localStorage; } catch { return null; } })();
  const store = new Store(data.page, data.shots, kept);
  const items = new Map([...document.querySelectorAll("[data-shot]")].map((item) => [Number(item.dataset.shot), item]));
  const player = new Player($("video"), $("drawing"), (problem) => showPlace(problem));
  const span = { start: null, end: null };
  player.notesAt = (frame) => store.of(player.shot).notes
    .filter((note) => frame >= note.frame && frame <= (note.end ?? note.frame)).map((note) => note.lines);

  const at = (shot, frame) => Timecode.text(shot.start + frame, shot.rate, shot.drop);
  const say = (text) => { $("status").textContent = text; if (text) setTimeout(() => { $("status").textContent = ""; }, 4000); };

  function choose(shot, { focus = true } = {}) {
    for (const item of items.values()) item.classList.remove("current");
    const item = items.get(shot.number);
    item.classList.add("current");
    $("player").hidden = false;
    document.body.classList.add("open");
    player.open(shot);
    player.drawing = false;
    span.start = span.end = null;
    $("shot-name").textContent = shot.name;
    $("position").max = shot.frames - 1;
    $("facts").replaceChildren(...shot.facts.map((line) => Object.assign(document.createElement("p"), { textContent: line })));
    showVerdict();
    showNotes();
    showPlace();
    item.scrollIntoView({ block: "nearest" });
    if (focus) $("shot-name").focus({ preventScroll: window.innerWidth > 760 });
  }

  function showPlace(problem) {
    const shot = player.shot;
    if (!shot) return;
    $("clock").textContent = at(shot, player.frame);
    $("position").value = player.frame;
    $("position").setAttribute("aria-valuetext", at(shot, player.frame));
    $("play").textContent = $("video").paused ? "Play" : "Pause";
    $("draw").setAttribute("aria-pressed", String(player.drawing));
    $("drawing").classList.toggle("on", player.drawing);
    $("undo").disabled = !player.lines.length;
    if (typeof problem === "string") say(problem);
  }

  function showSpan() {
    const shot = player.shot, { start, end } = span;
    if (start === null && end === null) $("note-span").textContent = "A note is on the frame that is shown, unless it has an in and an out.";
    else $("note-span").textContent = `In ${start === null ? "here" : at(shot, start)}${end === null ? "" : `, out ${at(shot, end)}`}`;
  }

  function showVerdict() {
    const verdict = store.of(player.shot).verdict;
    for (const radio of document.querySelectorAll("[name=verdict]")) radio.checked = radio.value === verdict;
  }

  function showNotes() {
    const shot = player.shot;
    $("notes").replaceChildren(...store.of(shot).notes.map((note, place) => {
      const item = document.createElement("li");
      const jump = Object.assign(document.createElement("button"), { type: "button" });
      jump.textContent = note.end === null ? at(shot, note.frame) : `${at(shot, note.frame)} to ${at(shot, note.end)}`;
      jump.addEventListener("click", () => player.seek(note.frame));
      const text = Object.assign(document.createElement("p"), { textContent: note.text || "(drawn)" });
      const by = Object.assign(document.createElement("span"), { className: "by", textContent: note.by ? `${note.by} ` : "" });
      const away = Object.assign(document.createElement("button"), { type: "button", textContent: "Delete" });
      away.setAttribute("aria-label", `Delete the note at ${at(shot, note.frame)}`);
      away.addEventListener("click", () => { store.remove(shot, place); showNotes(); showStates(); player.paint(); });
      item.append(jump, text, by, away);
      return item;
    }));
    showSpan();
  }

  function showStates() {
    let counts = { good: 0, "not good": 0, notes: 0 };
    for (const shot of data.shots) {
      const one = store.said.get(shot.id);
      const state = items.get(shot.number).querySelector(".state");
      const verdict = one ? one.verdict : "open", notes = one ? one.notes.length : 0;
      const words = [verdict === "open" ? "" : verdict === "good" ? "✓ good" : "✗ not good", notes ? `${notes} note${notes > 1 ? "s" : ""}` : ""];
      state.textContent = words.filter(Boolean).join(" · ");
      state.dataset.verdict = verdict;
      if (verdict !== "open") counts[verdict] += 1;
      counts.notes += notes;
    }
    const shots = data.shots.length;
    $("summary").textContent = `${shots} shot${shots === 1 ? "" : "s"}: ${counts.good} good, ${counts["not good"]} not good, `
      + `${shots - counts.good - counts["not good"]} open; ${counts.notes} note${counts.notes === 1 ? "" : "s"}`
      + (store.failed ? ". This browser keeps nothing: save the review before you close the page." : "");
  }

  function find() {
    const words = $("search").value.toLowerCase().split(/\s+/).filter(Boolean), wanted = $("filter").value;
    let shown = 0;
    for (const shot of data.shots) {
      const item = items.get(shot.number), one = store.said.get(shot.id);
      const fits = words.every((word) => item.dataset.words.includes(word));
      const verdict = one ? one.verdict : "open";
      const kept = !wanted || (wanted === "notes" ? Boolean(one && one.notes.length) : verdict === wanted);
      item.hidden = !(fits && kept);
      shown += !item.hidden;
    }
    for (const group of document.querySelectorAll("[data-section]")) group.hidden = !group.querySelector("li:not([hidden])");
    $("nothing").hidden = shown > 0;
  }

  function neighbour(step) {
    const seen = data.shots.filter((shot) => !items.get(shot.number).hidden);
    const place = player.shot ? seen.findIndex((shot) => shot.number === player.shot.number) : -1;
    const next = seen[place < 0 ? 0 : place + step];
    if (next) choose(next);
  }

  function judge(verdict) {
    store.judge(player.shot, verdict);
    showVerdict();
    showStates();
    say(`${player.shot.name}: ${verdict}`);
  }

  function addNote() {
    const text = $("note-text").value.trim(), shot = player.shot;
    if (!text && !player.lines.length) { say("Write something, or draw, first."); return; }
    const start = span.start ?? player.frame;
    store.note(shot, start, span.end, text, player.lines, new Date().toISOString());
    $("note-text").value = "";
    span.start = span.end = null;
    player.drawing = false;
    player.clear();
    showNotes();
    showStates();
    showPlace();
    say("Note added.");
  }

  function download(name, kind, text) {
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([text], { type: kind }));
    link.download = name;
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 10000);
    say(`${name} is saved where your browser keeps downloads.`);
  }

  const fileName = (extension) => `review ${data.page.title} ${store.reviewer}`.replace(/[^\p{L}\p{N} ._-]/gu, "").trim().slice(0, 80) + extension;
  const keys = {
    " ": () => player.toggle(), ArrowLeft: () => player.seek(player.frame - 1), ArrowRight: () => player.seek(player.frame + 1),
    n: () => neighbour(1), p: () => neighbour(-1), i: () => setIn(), o: () => setOut(), d: () => draw(),
    m: () => $("note-text").focus(), 1: () => judge("good"), 2: () => judge("not good"), 3: () => judge("open"),
  };
  const setIn = () => { span.start = player.frame; if (span.end !== null && span.end < span.start) span.end = null; showSpan(); };
  const setOut = () => { span.end = player.frame; if (span.start === null || span.start > span.end) span.start = span.end; showSpan(); };
  const draw = () => {
    player.drawing = !player.drawing;
    $("video").pause();
    if (player.drawing) $("video").scrollIntoView({ block: "nearest", behavior: "instant" });
    showPlace();
  };

  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const typing = event.target.matches("textarea, input:not([type=range]):not([type=radio]), select");
    if (event.key === "Escape" && typing) { event.target.blur(); return; }
    if (typing) return;
    if (event.key === "/") { event.preventDefault(); $("search").focus(); return; }
    const isButton = event.target.matches("button, a, input[type=radio]") && event.key === " ";
    const act = keys[event.key.length === 1 ? event.key.toLowerCase() : event.key];
    const moves = event.target.matches("input[type=radio]") && event.key.startsWith("Arrow");
    if (!act || isButton || moves || (!player.shot && !["n", "p"].includes(event.key.toLowerCase()))) return;
    event.preventDefault();
    act();
  });
  for (const [number, item] of items) {
    const shot = data.shots.find((one) => one.number === number);
    item.querySelector(".card").addEventListener("click", () => choose(shot));
  }
  const on = (id, name, act) => $(id).addEventListener(name, act);
  on("play", "click", () => player.toggle());
  on("back", "click", () => player.seek(player.frame - 1));
  on("forward", "click", () => player.seek(player.frame + 1));
  on("previous", "click", () => neighbour(-1));
  on("next", "click", () => neighbour(1));
  on("position", "input", () => player.seek(Number($("position").value)));
  on("mark-in", "click", setIn);
  on("mark-out", "click", setOut);
  on("draw", "click", draw);
  on("undo", "click", () => player.undo());
  on("search", "input", find);
  on("filter", "change", find);
  on("reviewer", "change", () => { store.reviewer = $("reviewer").value.trim(); store.save(); });
  on("verdict", "change", (event) => judge(event.target.value));
  on("note-form", "submit", (event) => { event.preventDefault(); addNote(); });
  on("help-button", "click", () => {
    $("help").hidden = !$("help").hidden;
    $("help-button").setAttribute("aria-expanded", String(!$("help").hidden));
  });
  on("export-json", "click", () => download(fileName(".json"), "application/json", JSON.stringify(store.review(new Date().toISOString()), null, 1)));
  on("export-csv", "click", () => download(fileName(".csv"), "text/csv", store.table(Timecode.text)));
  $("reviewer").value = store.reviewer;
  showStates();
  window.reviewPage = { store, player, data };
})();
