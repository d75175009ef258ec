// Light: the sun by hand, by the hour or as a mood has it; moods by name; lamps and mists as things on the map.
import Alpine from "/static/js/kernel/alpine.js";
import { ask, say } from "/static/js/kernel/say.js";
import { drag, heldKeys } from "/static/js/kernel/shapes.js";
import { chosenForm, chosenOf } from "/static/js/seen/bench.js";
import { addHand } from "/static/js/seen/hands/hand.js";
import { addPlaced, choose, removeChosen } from "/static/js/seen/hands/placed.js";
import { addMark, drawOverlay, inView, name } from "/static/js/seen/drawn/overlay.js";
import { lit } from "/static/js/seen/drawn/light3d.js";
import { paneSize, postsInView, screenAt } from "/static/js/seen/drawn/plan.js";
import { each, only, row } from "/static/js/seen/rows.js";
import { actions, clamp, heed, inShown, landApi, state, watch, xOf, yOf } from "/static/js/seen/state.js";

/** @param {string} name @returns {any} */
const id = (name) => document.getElementById(name);
const RIM = 72;
const DAY = 1440;
const lightPath = `/api/worlds/${state.world.id}/light`;

/** Where a sun is on the dial: the rim is the horizon, the middle straight above. @param {number} bearing @param {number} height @returns {[number, number]} */
const onDial = (bearing, height) => {
  const reach = RIM * (1 - Math.max(height, -8) / 90);
  const turn = (bearing * Math.PI) / 180;
  return [Math.sin(turn) * reach, -Math.cos(turn) * reach];
};

/** The sun that is seen now. */
const sunSeen = () =>
  state.sun
    ? { bearing_deg: state.sun.sun_bearing_deg, height_deg: state.sun.sun_height_deg }
    : (lit.now.sun ?? { bearing_deg: 0, height_deg: 0 });

function placeSun() {
  if (course.length) drawOverlay();
  const sun = id("dial-sun");
  if (!sun) return;
  const { bearing_deg: bearing, height_deg: height } = sunSeen();
  const [x, y] = onDial(bearing, height);
  sun.classList.toggle("under", height < 0);
  for (const [name, value] of Object.entries({ cx: x, cy: y })) sun.setAttribute(name, String(value));
  for (const [name, value] of Object.entries({ x1: x, y1: y })) id("dial-ray").setAttribute(name, String(value));
  id("dial").setAttribute("aria-valuenow", String(Math.round(bearing)));
  id("dial").setAttribute("aria-valuetext", `${Math.round(bearing)}°, ${Math.round(height)}° high`);
}
heed("lit", placeSun);

// The day: its course on the dial, its hours, and the hand that is dragged

/** Minutes of its day, and the offset from UT in minutes, of a time that says one. @param {string} time */
function clockOf(time) {
  const found = /T(\d\d):(\d\d).*?(?:Z|([+-])(\d\d):?(\d\d))$/.exec(time);
  if (!found) return { minute: 720, offset: "Z" };
  return {
    minute: Number(found[1]) * 60 + Number(found[2]),
    offset: found[3] ? `${found[3]}${found[4]}:${found[5]}` : "Z",
  };
}
const two = (/** @type {number} */ n) => String(Math.floor(n)).padStart(2, "0");
const words = (/** @type {number} */ minute) => `${two(minute / 60)}:${two(minute % 60)}`;
/** The same day at another minute. @param {string} time @param {number} minute */
const at = (time, minute) => `${time.slice(0, 11)}${words(minute)}:00${clockOf(time).offset}`;

/** What the server tells of the sun of a time, at the world's place on earth. @param {string} time @returns {Promise<any>} */
const sunOf = (time) => {
  const { latitude_deg, longitude_deg } = only("light");
  return ask(`/api/sun?${new URLSearchParams({ latitude_deg, longitude_deg, time })}`);
};

const NAMED = /** @type {const} */ ([
  ["dawn", "Dawn"],
  ["sunrise", "Sunrise"],
  ["noon", "Noon"],
  ["sunset", "Sunset"],
  ["dusk", "Dusk"],
]);

/** The sun's course over the day as a path on the dial, broken where it is under the horizon. @param {any[]} hours */
function drawCourse(hours) {
  course = hours;
  drawOverlay();
  const path = id("dial-course");
  if (!path) return;
  const north = only("light").north_deg || 0;
  let pen = "M";
  const parts = [];
  const marks = [];
  for (const { hour, bearing_deg: bearing, height_deg: height } of hours) {
    const [x, y] = onDial(bearing + north, height);
    if (height < -1) {
      pen = "M";
      continue;
    }
    parts.push(`${pen}${x.toFixed(1)} ${y.toFixed(1)}`);
    pen = "L";
    if (hour % 3 === 0 && hour < 24)
      marks.push(`<text class="hour" x="${(x * 0.88).toFixed(1)}" y="${(y * 0.88 + 3).toFixed(1)}">${hour}</text>`);
  }
  path.setAttribute("d", parts.join(""));
  id("dial-hours").innerHTML = marks.join("");
}

/** Where the sun stands at each hour of the day, over the map: its rim is the horizon. @type {any[]} */
let course = [];

/** The light that was there before it raked over the land. @type {Record<string, any> | null} */
let before = null;

/** A raking light for what is in view; pressed again, the light that was there before. */
actions.raking = async () => {
  if (before) {
    const back = before;
    before = null;
    state.raked = false;
    await ask(lightPath, "PATCH", back);
    return;
  }
  const [row0, col0, row1, col1] = postsInView();
  const corners = { x0: xOf(col0), y0: yOf(row1), x1: xOf(col1), y1: yOf(row0) };
  const found = await ask(`${landApi}/raking?${new URLSearchParams(/** @type {any} */ (corners))}`);
  if (!found) return;
  const { sun_bearing_deg, sun_height_deg, sun_from } = only("light");
  const was = { sun_bearing_deg, sun_height_deg, sun_from };
  state.mood = null;
  const said = { sun_bearing_deg: found.bearing_deg, sun_height_deg: found.height_deg, sun_from: "hand" };
  if (!(await ask(lightPath, "PATCH", said))) return;
  before = was;
  state.raked = true;
  say(`Raking light from ${found.bearing_deg}°, ${found.height_deg}° high. R brings the light before back.`, "calm");
};

Alpine.data("light", () => ({
  day: /** @type {{name: string, words: string}[] | null} */ (null),
  minute: 720,
  playing: false,
  timer: 0,
  /** The sun over the day at the cursor, as the server tells it. */
  here: /** @type {any} */ (null),
  reading: 0,
  /** A time is asked for; the newest that waits. */
  asking: false,
  wanted: /** @type {string | null} */ (null),
  /** Nobody looks any more: what is on its way is not shown. */
  dropped: false,
  init() {
    watch(
      () => state.at.light,
      () => this.follow(),
    );
    watch(
      () => [state.cursor, state.at.light, state.stage],
      () => this.read(),
    );
    this.follow();
  },
  destroy() {
    clearInterval(this.timer);
    clearTimeout(this.reading);
  },
  get raked() {
    return state.raked;
  },
  get own() {
    return only("light").mood;
  },
  get mood() {
    return chosenOf("moods");
  },
  get lamp() {
    return chosenOf("lamps");
  },
  get mist() {
    return chosenOf("mists");
  },
  /** Once the cursor rests, what light comes there. */
  read() {
    clearTimeout(this.reading);
    if (state.stage !== "light" || !state.cursor) return;
    this.reading = window.setTimeout(async () => {
      const { x, y } = state.cursor ?? { x: 0, y: 0 };
      const answer = await fetch(`${landApi}/sun-strip?x=${x}&y=${y}`).catch(() => null);
      this.here = answer?.ok ? await answer.json() : null;
    }, 150);
  },
  get hereWords() {
    if (!this.here) return "";
    const lux = this.here.lux;
    const light = lux > 0 ? `, ${lux.toLocaleString("en", { maximumSignificantDigits: 2 })} lx` : "";
    return `${this.here.sun_hours.toFixed(1)} h of sun${light}`;
  },
  /** Bars of the day: where the sun is down, where it is hidden, and where it comes. */
  get strip() {
    const bars = { night: "", shade: "", sunny: "" };
    const all = /** @type {any} */ (this.here)?.sun ?? [];
    all.forEach((/** @type {number | null} */ part, /** @type {number} */ i) => {
      const bar = `M${(i * 240) / all.length} 0h${240 / all.length}v14h${-240 / all.length}z`;
      bars[part === null ? "night" : part < 0.5 ? "shade" : "sunny"] += bar;
    });
    return bars;
  },
  get hourWords() {
    return words(this.minute);
  },
  /** The day of the world's time and place, if it has both. */
  async follow() {
    const { time, latitude_deg, sun_from } = only("light");
    if (!time || latitude_deg === null || latitude_deg === undefined || sun_from !== "time") {
      this.day = null;
      drawCourse([]);
      return;
    }
    if (!this.playing) this.minute = clockOf(time).minute;
    const found = await sunOf(time);
    if (!found) return;
    drawCourse(found.hours);
    const moon = `${Math.round(found.moon.lit_share * 100)} % lit, ${Math.round(found.moon.height_deg)}° high`;
    this.day = [
      ...NAMED.map(([name, label]) => ({ name: label, words: found[name]?.slice(11, 16) ?? "none on this day" })),
      { name: "Moon", words: moon },
    ];
  },
  /** Look at a minute of the day before it is kept. @param {number} minute */
  async look(minute) {
    this.minute = minute;
    this.dropped = false;
    this.wanted = at(only("light").time, minute);
    if (this.asking) return;
    this.asking = true;
    while (this.wanted) {
      const time = this.wanted;
      this.wanted = null;
      const found = await sunOf(time);
      if (!found || this.dropped) break;
      const north = only("light").north_deg || 0;
      state.sun = { sun_bearing_deg: (found.bearing_deg + north + 360) % 360, sun_height_deg: found.height_deg };
      placeSun();
    }
    this.asking = false;
  },
  /** @param {Event} event */
  slide(event) {
    this.look(Number(/** @type {HTMLInputElement} */ (event.target).value));
  },
  /** @param {Event} [event] of the slider that was let go */
  async keepHour(event) {
    if (event) this.minute = Number(/** @type {HTMLInputElement} */ (event.target).value);
    this.dropped = true;
    this.wanted = null;
    state.mood = null;
    const taken = await ask(lightPath, "PATCH", { time: at(only("light").time, this.minute) });
    if (!taken?.changed) state.sun = null;
  },
  /** A minute of the day in a second, four looks a second; stopped, the hour is kept. */
  play() {
    this.playing = !this.playing;
    clearInterval(this.timer);
    if (!this.playing) {
      this.keepHour();
      return;
    }
    let now = performance.now();
    const from = this.minute;
    const began = now;
    this.timer = setInterval(() => {
      now = performance.now();
      if (!this.asking) this.look(Math.floor(from + (now - began) / 1000) % DAY);
    }, 250);
  },
  /** @param {any} mood @returns {string} the sky that it has, as a picture; it is asked for anew when the mood has changed */
  skyOf(mood) {
    void state.at.moods;
    return `/api/worlds/${state.world.id}/sky.png?mood=${mood.key}&r=${state.world.revision}`;
  },
  /** @param {Event} event */
  chooseMood(event) {
    const key = /** @type {HTMLElement} */ (event.currentTarget).dataset.mood || "";
    const again = state.chosen === `moods/${key}`;
    choose("moods", again ? null : key);
    Object.assign(state, { mood: again ? null : key, sun: null });
  },
  /** Two moods beside each other, with a line to drag between them. @param {Event} event */
  compare(event) {
    const key = /** @type {HTMLSelectElement} */ (event.target).value;
    const [, col0, , col1] = postsInView();
    Object.assign(state, { beside: key || null, divide: key ? xOf((col0 + col1) / 2) : null });
  },
  async makeOwn() {
    const own = chosenOf("moods");
    if (own && (await ask(lightPath, "PATCH", { mood: own.key, sun_from: "mood" }))) state.mood = null;
  },
  async leaveMood() {
    state.mood = null;
    choose("moods", null);
    await ask(lightPath, "PATCH", { mood: null, sun_from: "hand" });
  },
  async addMood() {
    const own = chosenOf("moods");
    const { key: _, ...from } = /** @type {Record<string, any>} */ (own ?? {});
    const sun = sunSeen();
    const said = own
      ? { ...from, name: `${from.name} copy` }
      : { name: "Mood", sun_bearing_deg: sun.bearing_deg, sun_height_deg: sun.height_deg };
    const made = await ask(`/api/worlds/${state.world.id}/moods`, "POST", said);
    if (!made) return;
    choose("moods", made.key);
    state.mood = made.key;
  },
  /** @param {any} lamp */
  lampWords: (lamp) => `${lamp.lumens} lm`,
  /** @param {any} mist */
  mistWords: (mist) => `${mist.radius_m} m`,
  /** @param {Event} event */
  choose(event) {
    const { lamp, mist } = /** @type {HTMLElement} */ (event.currentTarget).dataset;
    choose(lamp ? "lamps" : "mists", lamp || mist || null);
  },
  async remove() {
    await removeChosen();
    if (state.mood && !row("moods", state.mood)) state.mood = null;
  },
  /** @param {Event} event */
  take(event) {
    const name = /** @type {HTMLElement} */ (event.currentTarget).dataset.place || null;
    state.place = state.place === name ? null : name;
  },
}));

// Lamps and mists on the map

let dragging = false;
const number = (/** @type {string} */ name) => [...each(name)].length + 1;
addPlaced({
  stage: "light",
  name: "lamps",
  form: "lamp",
  make: (what) => (what === "lamp" ? { name: `Lamp ${number("lamps")}` } : null),
});
addPlaced({
  stage: "light",
  name: "mists",
  form: "mist",
  make: (what) => (what === "mist" ? { name: `Mist ${number("mists")}` } : null),
});

// The day's arc over the map, as it stands over its middle.
addMark((context) => {
  if (state.stage !== "light" || !course.length) return;
  const [wide, high] = paneSize();
  const [x0, y0, rim] = [wide / 2, high / 2, Math.min(wide, high) * 0.44];
  const north = only("light").north_deg || 0;
  const at = (/** @type {number} */ bearing, /** @type {number} */ height) => {
    const [x, y] = onDial(bearing, height);
    return [x0 + (x / RIM) * rim, y0 + (y / RIM) * rim];
  };
  context.strokeStyle = "rgba(250, 248, 241, 0.75)";
  context.lineWidth = 1;
  context.beginPath();
  context.arc(x0, y0, rim, 0, 7);
  context.stroke();
  context.strokeStyle = "#a2431f";
  context.lineWidth = 2;
  context.beginPath();
  let up = false;
  for (const { bearing_deg: bearing, height_deg: height } of course) {
    const [x, y] = at(bearing + north, height);
    if (height < -1) up = false;
    else if (up) context.lineTo(x, y);
    else {
      context.moveTo(x, y);
      up = true;
    }
  }
  context.stroke();
  for (const { hour, bearing_deg: bearing, height_deg: height } of course) {
    if (height < 0 || hour % 2) continue;
    const [x, y] = at(bearing + north, height);
    name(`${hour} h`, x + 4, y - 4);
  }
  const sun = sunSeen();
  if (sun.height_deg < -8) return;
  const [x, y] = at(sun.bearing_deg, sun.height_deg);
  context.fillStyle = sun.height_deg < 0 ? "#8f8770" : "#e3b54a";
  context.strokeStyle = "#1e2925";
  context.beginPath();
  context.arc(x, y, 7, 0, 7);
  context.fill();
  context.stroke();
});

addMark((context) => {
  if (state.stage !== "light") return;
  for (const lamp of each("lamps")) {
    if (!inView(lamp)) continue;
    const [x, y] = screenAt(lamp.x, lamp.y);
    context.strokeStyle = "#1e2925";
    context.fillStyle = lamp.kelvin === null ? lamp.colour : "#ffd9a0";
    context.lineWidth = `lamps/${lamp.key}` === state.chosen ? 3 : 1.4;
    context.beginPath();
    context.arc(x, y, 4.5, 0, 7);
    context.fill();
    for (let k = 0; k < 6; k += 1) {
      const turn = (k * Math.PI) / 3;
      context.moveTo(x + Math.cos(turn) * 6.5, y + Math.sin(turn) * 6.5);
      context.lineTo(x + Math.cos(turn) * 9.5, y + Math.sin(turn) * 9.5);
    }
    context.stroke();
    if (`lamps/${lamp.key}` === state.chosen) ring(context, lamp, lamp.reach_m);
  }
  for (const mist of each("mists")) {
    if (!inView(mist)) continue;
    const [x, y] = screenAt(mist.x, mist.y);
    context.strokeStyle = "#4d6470";
    context.lineWidth = `mists/${mist.key}` === state.chosen ? 3 : 1.4;
    context.setLineDash([7, 5]);
    ring(context, mist, mist.radius_m);
    context.setLineDash([]);
    name(mist.name, x + 6, y);
  }
});

// The line between two moods: a hand takes it, or the arrows with the slider beside.
addHand({
  down(px, _py) {
    if (state.stage !== "light" || state.divide === null) return false;
    dragging = Math.abs(px - screenAt(state.divide, 0)[0]) < 8;
    return dragging;
  },
  move(_px, _py, spot) {
    if (dragging) state.divide = inShown(spot).x;
  },
  up() {
    dragging = false;
  },
});

/** A circle of so many metres around a row. @param {CanvasRenderingContext2D} context @param {any} row @param {number} metres */
function ring(context, row, metres) {
  const [x, y] = screenAt(row.x, row.y);
  const [edge] = screenAt(row.x + metres, row.y);
  context.beginPath();
  context.arc(x, y, Math.abs(edge - x), 0, 7);
  context.stroke();
}

function begin() {
  const face = id("dial");
  if (!face) return;
  const form = id("sun");
  /** @type {{sun_bearing_deg: number, sun_height_deg: number} | null} */
  let held = null;
  const look = (/** @type {number} */ bearing, /** @type {number} */ height) => {
    // Looked at before it is set: the land is drawn in it while the sun is turned.
    held = { sun_bearing_deg: ((bearing % 360) + 360) % 360, sun_height_deg: clamp(height, 1, 90) };
    state.sun = held;
    placeSun();
  };
  const turn = (/** @type {PointerEvent} */ event) => {
    const rect = face.getBoundingClientRect();
    const [x, y] = [event.clientX - rect.left - rect.width / 2, event.clientY - rect.top - rect.height / 2];
    look(Math.round((Math.atan2(x, -y) * 180) / Math.PI), Math.round(90 * (1 - Math.min(Math.hypot(x, y) / RIM, 1))));
  };
  // What was not taken, or was so before, is not looked at any more; what was taken comes as the world's own light.
  const set = async () => {
    const said = held;
    held = null;
    if (!said) return;
    state.mood = null;
    const taken = await ask(lightPath, "PATCH", { ...said, sun_from: "hand" });
    if (!taken?.changed) state.sun = null;
  };
  drag(face, (event) => (turn(event), true), { move: (_, event) => turn(event), end: set });
  heldKeys(
    face,
    (event) => {
      const step = { ArrowRight: [5, 0], ArrowLeft: [-5, 0], ArrowUp: [0, 2], ArrowDown: [0, -2] }[event.key];
      if (!step) return false;
      const { bearing_deg, height_deg } = sunSeen();
      look(bearing_deg + step[0], height_deg + step[1]);
      return true;
    },
    set,
  );
  form.addEventListener("input", () => {
    const [bearing, height] = ["bearing", "height"].map((name) => Number(id(`sun-sun_${name}_deg`).value));
    if (id("sun-sun_from").value === "hand" && height >= 1 && height <= 90) look(bearing, height);
  });
  // A sun by date and place begins with some of both.
  form.addEventListener(
    "change",
    (/** @type {Event} */ event) => {
      if (event.target !== id("sun-sun_from") || id("sun-sun_from").value !== "time") return;
      const firsts = {
        time: `${new Date().toISOString().slice(0, 11)}12:00:00Z`,
        latitude_deg: "52",
        longitude_deg: "0",
      };
      for (const [name, first] of Object.entries(firsts)) {
        const field = id(`sun-${name}`);
        field.disabled = false;
        field.closest("[data-when]").hidden = false;
        field.value ||= first;
      }
    },
    true,
  );
  form.addEventListener("htmx:afterRequest", (/** @type {any} */ event) => {
    if (!event.detail.successful || !event.detail.xhr.responseText.includes('"changed":true')) state.sun = null;
  });
  for (const [of, collection] of [
    ["mood", "moods"],
    ["lamp", "lamps"],
    ["mist", "mists"],
  ])
    chosenForm(id(of), collection);
  placeSun();
}
heed("panel", () => {
  if (state.stage === "light") begin();
  // What was looked at on the stage of light is over elsewhere.
  else Object.assign(state, { mood: null, sun: null, beside: null, divide: null });
});
watch(
  () => state.at.light,
  () => {
    state.sun = null;
    setTimeout(placeSun);
  },
);
