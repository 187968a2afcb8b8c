// The player: a video by frames, with lines drawn over it.
"use strict";

class Player {
  constructor(video, canvas, changed) {
    this.video = video;
    this.canvas = canvas;
    this.changed = changed;
    this.shot = null;
    this.frame = 0;
    this.lines = [];
    this.drawing = false;
    this.line = null;
    const shown = () => {
      if (!this.shot) return;
      this.frame = this.at(video.currentTime);
      this.paint();
      this.changed();
    };
    for (const name of ["seeked", "timeupdate", "pause", "loadeddata", "ended"]) video.addEventListener(name, shown);
    video.addEventListener("play", () => { this.follow(); this.changed(); });
    canvas.addEventListener("pointerdown", (event) => this.begin(event));
    canvas.addEventListener("pointermove", (event) => this.go(event));
    for (const name of ["pointerup", "pointercancel"]) canvas.addEventListener(name, () => { this.line = null; this.changed(); });
    new ResizeObserver(() => this.paint()).observe(video);
  }

  open(shot) {
    this.shot = shot;
    this.frame = 0;
    this.clear();
    this.video.src = shot.media;
    this.video.poster = shot.poster || "";
    this.video.load();
    this.changed();
  }

  get fps() {
    return this.shot.rate.num / this.shot.rate.den;
  }

  at(seconds) {
    return Math.max(0, Math.min(this.shot.frames - 1, Math.floor(seconds * this.fps + 0.001)));
  }

  seek(frame) {
    this.video.pause();
    this.frame = Math.max(0, Math.min(this.shot.frames - 1, frame));
    this.video.currentTime = (this.frame + 0.5) / this.fps;  // the middle: never the frame before
    this.paint();
    this.changed();
  }

  toggle() {
    if (this.video.paused) this.video.play().catch(() => this.changed("This file cannot be played here."));
    else this.video.pause();
  }

  follow() {
    if (!this.video.requestVideoFrameCallback) return;
    this.video.requestVideoFrameCallback((_, shown) => {
      if (!this.shot) return;
      this.frame = Math.max(0, Math.min(this.shot.frames - 1, Math.round(shown.mediaTime * this.fps)));
      this.paint();
      this.changed();
      if (!this.video.paused) this.follow();
    });
  }

  // The rectangle of the picture within the video's box, which may have bars.
  box() {
    const { clientWidth: width, clientHeight: height, videoWidth, videoHeight } = this.video;
    if (!videoWidth || !videoHeight) return { left: 0, top: 0, width, height };
    const scale = Math.min(width / videoWidth, height / videoHeight);
    const own = { width: videoWidth * scale, height: videoHeight * scale };
    return { left: (width - own.width) / 2, top: (height - own.height) / 2, ...own };
  }

  begin(event) {
    if (!this.drawing) return;
    this.video.pause();
    this.canvas.setPointerCapture(event.pointerId);
    this.line = [this.point(event)];
    this.lines.push(this.line);
    this.paint();
    this.changed();
  }

  go(event) {
    if (!this.line) return;
    this.line.push(this.point(event));
    this.paint();
  }

  point(event) {
    const place = this.canvas.getBoundingClientRect();
    const share = (value, size) => Math.round(Math.max(0, Math.min(1, value / size)) * 1e4) / 1e4;
    return [share(event.clientX - place.left, place.width), share(event.clientY - place.top, place.height)];
  }

  clear() {
    this.lines = [];
    this.line = null;
    this.paint();
  }

  undo() {
    this.lines.pop();
    this.paint();
    this.changed();
  }

  paint() {
    const box = this.box(), canvas = this.canvas, dots = window.devicePixelRatio || 1;
    Object.assign(canvas.style, { left: `${this.video.offsetLeft + box.left}px`, top: `${this.video.offsetTop + box.top}px`,
                                  width: `${box.width}px`, height: `${box.height}px` });
    canvas.width = Math.max(1, Math.round(box.width * dots));
    canvas.height = Math.max(1, Math.round(box.height * dots));
    const pen = canvas.getContext("2d");
    pen.lineCap = pen.lineJoin = "round";
    const kept = this.shot && this.notesAt ? this.notesAt(this.frame) : [];
    for (const lines of [...kept, this.lines]) {
      for (const [width, colour] of [[6, "#000000"], [3, "#ffd23f"]]) {
        pen.lineWidth = width * dots;
        pen.strokeStyle = pen.fillStyle = colour;
        for (const line of lines) this.stroke(pen, line, width * dots);
      }
    }
  }

  stroke(pen, line, width) {
    const [x, y] = [(share) => share * this.canvas.width, (share) => share * this.canvas.height];
    pen.beginPath();
    if (line.length === 1) {
      pen.arc(x(line[0][0]), y(line[0][1]), width, 0, 2 * Math.PI);
      pen.fill();
      return;
    }
    pen.moveTo(x(line[0][0]), y(line[0][1]));
    for (const [across, down] of line.slice(1)) pen.lineTo(x(across), y(down));
    pen.stroke();
  }
}
