// What reviewers say of the shots: kept in the browser, saved as one file.
"use strict";

const VERDICTS = ["good", "not good", "open"];

class Store {
  // page: {id, title, batch}; shots: as the page lists them; kept: an object like localStorage, or null.
  constructor(page, shots, kept) {
    this.page = page;
    this.shots = shots;
    this.kept = kept;
    this.reviewer = "";
    this.said = new Map();
    this.failed = false;
    this.load();
  }

  get key() {
    return `boxkite-review ${this.page.id}`;
  }

  load() {
    let text = null;
    try {
      text = this.kept && this.kept.getItem(this.key);
      const found = text ? JSON.parse(text) : {};
      this.reviewer = typeof found.reviewer === "string" ? found.reviewer : "";
      for (const one of Array.isArray(found.shots) ? found.shots : []) {
        if (this.shots.some((shot) => shot.id === one.id)) {
          this.said.set(one.id, { verdict: VERDICTS.includes(one.verdict) ? one.verdict : "open", notes: one.notes || [] });
        }
      }
    } catch {
      this.failed = true;
    }
  }

  save() {
    const shots = [...this.said].map(([id, one]) => ({ id, ...one }));
    try {
      if (this.kept) this.kept.setItem(this.key, JSON.stringify({ reviewer: this.reviewer, shots }));
      else this.failed = true;
    } catch {
      this.failed = true;
    }
  }

  of(shot) {
    if (!this.said.has(shot.id)) this.said.set(shot.id, { verdict: "open", notes: [] });
    return this.said.get(shot.id);
  }

  judge(shot, verdict) {
    this.of(shot).verdict = verdict;
    this.save();
  }

  // frame, end: of the file, counted from 0; end is the last frame of a range, null for one frame.
  // lines: lists of [x, y], each from 0 to 1 across and down the picture.
  note(shot, frame, end, text, lines, now) {
    const range = end !== null && end > frame ? end : null;
    this.of(shot).notes.push({ frame, end: range, text, by: this.reviewer, at: now, lines });
    this.of(shot).notes.sort((a, b) => a.frame - b.frame);
    this.save();
  }

  remove(shot, place) {
    this.of(shot).notes.splice(place, 1);
    this.save();
  }

  review(now) {
    const shots = this.shots.filter((shot) => this.said.has(shot.id)).map((shot) => {
      const { verdict, notes } = this.said.get(shot.id);
      return { id: shot.id, name: shot.name, file: shot.file, frames: shot.frames, rate: `${shot.rate.num}/${shot.rate.den}`, verdict, notes };
    });
    return { format: "boxkite-review", version: 1, page: this.page, reviewer: this.reviewer, saved: now,
             shots: shots.filter((one) => one.verdict !== "open" || one.notes.length) };
  }

  table(timecode) {
    const rows = [["Shot", "File", "Verdict", "In", "Out", "Frame", "Last frame", "Note", "By", "Drawn"]];
    for (const shot of this.shots) {
      const one = this.said.get(shot.id);
      if (!one || (one.verdict === "open" && !one.notes.length)) continue;
      const at = (frame) => timecode(shot.start + frame, shot.rate, shot.drop);
      if (!one.notes.length) rows.push([shot.name, shot.file, one.verdict, "", "", "", "", "", "", ""]);
      for (const note of one.notes) {
        rows.push([shot.name, shot.file, one.verdict, at(note.frame), note.end === null ? "" : at(note.end), String(note.frame),
                   note.end === null ? "" : String(note.end), note.text, note.by, note.lines.length ? "yes" : ""]);
      }
    }
    return "\ufeff" + rows.map((row) => row.map(Store.cell).join(",")).join("\r\n") + "\r\n";
  }

  // A cell of a table (RFC 4180) that no spreadsheet takes for a formula.
  static cell(text) {
    const safe = /^[ \n']*[=+\-@\t\r\uff1d\uff0b\uff0d\uff20]/.test(text) ? `'${text}` : text;
    return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
  }
}
