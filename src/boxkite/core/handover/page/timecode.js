// Timecode by SMPTE ST 12-1 from frames, drop-frame included; the same rules as the program's own.
"use strict";

const Timecode = {
  // rate: {num, den}; drop: whether labels are skipped, as for 30000/1001 and 60000/1001.
  text(frame, rate, drop) {
    const nominal = Math.round(rate.num / rate.den);
    const day = drop ? Timecode.dropped(nominal) * 144 : nominal * 86400;
    let label = ((frame % day) + day) % day;
    if (drop) {
      const skipped = nominal / 15, tens = Timecode.dropped(nominal), minute = nominal * 60 - skipped;
      const inTen = label % tens;
      label += skipped * 9 * Math.floor(label / tens);
      if (inTen >= nominal * 60) label += skipped * Math.floor((inTen - skipped) / minute);
    }
    const two = (value) => String(Math.floor(value)).padStart(2, "0");
    const seconds = Math.floor(label / nominal);
    return `${two(seconds / 3600)}:${two((seconds / 60) % 60)}:${two(seconds % 60)}${drop ? ";" : ":"}${two(label % nominal)}`;
  },
  // Frames in ten minutes of drop-frame counting.
  dropped(nominal) {
    return nominal * 600 - (nominal / 15) * 9;
  },
};
