// The rows of the world, as the server told them: fetched once, then kept up by what each revision says.
import Alpine from "../kernel/alpine.js";
import { ask } from "../kernel/say.js";
import { boot, seenTracts, state } from "./state.js";

/** @typedef {Record<string, any> & {key: string, x: any, y: any}} Row what is in it depends on its collection; x and y are there in rows with a place */

/** How many rows a list on the bench shows. */
const MOST_LISTED = 60;

const kinds = Object.fromEntries(boot.collections.map((one) => [one.name, one]));
/** @type {Map<string, Map<string, Row>>} */
const all = new Map(boot.collections.map((one) => [one.name, new Map()]));

/**
 * What is shown of rows before the server has said it: how each was, what is expected of it, how often it is asked for,
 * and the revision that has it.
 * @type {Map<string, {was: Row, fields: Record<string, any>, asks: number, from?: number}>}
 */
const expected = new Map();

const places = Object.fromEntries(boot.world.tracts.map((one) => [one.id, one]));
const seen = new Set(seenTracts.map((one) => one.id));

const along = (/** @type {number[][]} */ points, /** @type {number} */ east, /** @type {number} */ north) =>
  points.map(([x, y, ...rest]) => [x + east, y + north, ...rest]);
/** What becomes of a field that says where a row lies, by how it does. @type {Record<string, (value: any, east: number, north: number) => any>} */
const SHIFTS = {
  east: (x, east) => x + east,
  west: (x, east) => x + east,
  north: (y, _, north) => y + north,
  south: (y, _, north) => y + north,
  path: along,
  outline: along,
  box: ([x0, y0, x1, y1], east, north) => [x0 + east, y0 + north, x1 + east, y1 + north],
};

/** A row with its places in the world's metres, as the page works with them; the API has them in its tract's. @param {string} name @param {Row} row @returns {Row} */
function inWorld(name, row) {
  const place = places[row.tract ?? boot.world.tracts[0].id];
  if (!place || (!kinds[name].in_tract && row.tract === undefined) || (place.x === 0 && place.y === 0)) return row;
  const moved = { ...row };
  for (const [field, how] of Object.entries(kinds[name].lies))
    if (SHIFTS[how] && moved[field] !== undefined && moved[field] !== null)
      moved[field] = SHIFTS[how](moved[field], place.x, place.y);
  return moved;
}

/** @param {string} name @param {any[]} rows */
function put(name, rows) {
  const map = all.get(name);
  if (!map) return;
  map.clear();
  for (const row of rows) map.set(row.key, inWorld(name, row));
  for (const one of expected.keys()) if (one.startsWith(`${name}/`)) expected.delete(one);
}

/** @param {any} world as the API has it */
function takeAll(world) {
  for (const { name, only, told } of boot.collections) {
    if (!told || world[name] === undefined) continue;
    put(name, only ? [/** @type {Row} */ ({ key: only, ...world[name] })] : world[name]);
  }
}
takeAll(boot.world);

/** @param {string} name */
const count = (name) => {
  state.at[name] += 1;
};

/** Whether a row lies in what is shown. @param {string} name @param {Row} row */
const isHere = (name, row) => !kinds[name].in_tract || seen.has(row.tract ?? boot.world.tracts[0].id);

/** The rows of a collection that lie here, in their order. Whoever asks in an effect is asked again when they change. @param {string} name @returns {Row[]} */
export function rows(name) {
  void state.at[name];
  const found = [...(all.get(name)?.values() ?? [])].filter((row) => isHere(name, row));
  return found.sort((a, b) => (a.position ?? 0) - (b.position ?? 0) || (a.key < b.key ? -1 : 1));
}

/** The same in no order, for what looks at all of them often. @param {string} name @returns {Iterable<Row>} */
export const each = (name) =>
  kinds[name].in_tract && seen.size < boot.world.tracts.length ? here(name) : (all.get(name)?.values() ?? []);
/** @param {string} name */
function* here(name) {
  for (const row of all.get(name)?.values() ?? []) if (isHere(name, row)) yield row;
}

/** @param {string} name @param {string} key @returns {Row | null} */
export function row(name, key) {
  void state.at[name];
  return all.get(name)?.get(key) ?? null;
}

/** The same, for what asks of many: it is not asked again when they change. @param {string} name @param {string} key @returns {Row | null} */
export const peek = (name, key) => all.get(name)?.get(key) ?? null;

/** The row that a tool works with: the one that is chosen, or the first there is. @param {string} field of a stroke, which is what one row is called */
export function subject(field) {
  const name = boot.collections.find((one) => one.one === field)?.name || "";
  const chosen = state.subjects[field];
  if (row(name, chosen)) return chosen;
  // What lies under all others is there already: whoever begins begins with the next.
  const all = rows(name);
  return (all.find((one) => one.position !== 0) ?? all[0])?.key ?? "";
}

/** The only row of a collection. @param {string} name @returns {any} */
export const only = (name) => row(name, kinds[name].only || "") || {};

/** Show a row as it is going to be, whatever else is told of it meanwhile. `settle` or `forget` ends that. @param {string} name @param {string} key @param {Record<string, any>} fields */
export function expect(name, key, fields) {
  const old = all.get(name)?.get(key);
  if (!old) return;
  const one = expected.get(`${name}/${key}`) ?? { was: old, fields: {}, asks: 0 };
  Object.assign(one.fields, fields);
  expected.set(`${name}/${key}`, one);
  all.get(name)?.set(key, { ...old, ...fields });
  follow();
  count(name);
}

/** A row is as the server told it last. @param {string} name @param {string} key */
export function forget(name, key) {
  const one = expected.get(`${name}/${key}`);
  expected.delete(`${name}/${key}`);
  if (!one || !all.get(name)?.has(key)) return;
  all.get(name)?.set(key, one.was);
  follow();
  count(name);
}

/**
 * What is expected of a row is asked for: it goes back to where it was if that is not taken.
 * @param {string} name @param {string} key @param {Promise<any>} asking null where it was refused or not answered
 */
export async function settle(name, key, asking) {
  const one = expected.get(`${name}/${key}`);
  if (one) one.asks += 1;
  const taken = await asking;
  if (!one || expected.get(`${name}/${key}`) !== one) return taken;
  one.asks -= 1;
  // The answer may come before the line tells of it: what the line tells of earlier ones until then is over.
  one.from = Math.max(one.from ?? 0, taken?.revision ?? 0);
  if (!taken) forget(name, key);
  else if (!one.asks && one.from <= state.world.revision) expected.delete(`${name}/${key}`);
  return taken;
}

function follow() {
  const [sea, sun] = [only("water"), only("light")];
  Object.assign(
    state.world,
    sea.sea_level_m === undefined ? {} : { sea_level_m: sea.sea_level_m },
    sun.sun_height_deg === undefined
      ? {}
      : { sun_bearing_deg: sun.sun_bearing_deg, sun_height_deg: sun.sun_height_deg },
  );
  const about = row("about", "world");
  if (about) state.world.name = about.name;
}

/**
 * A revision was made: its rows take their places.
 * @param {{rows: {collection: string, key: string, row: Row | null}[], anew: string[]}} message
 */
export async function patch({ rows: changed, anew }) {
  const touched = new Set();
  for (const { collection, key, row: now } of changed) {
    const map = all.get(collection);
    if (!map) continue;
    touched.add(collection);
    if (!now) {
      map.delete(key);
      continue;
    }
    const told = inWorld(collection, { ...now, key });
    const asked = expected.get(`${collection}/${key}`);
    const over = asked && !asked.asks && (asked.from ?? 0) <= state.world.revision;
    if (over) expected.delete(`${collection}/${key}`);
    const own = over ? undefined : asked;
    if (own) own.was = told;
    map.set(key, own ? { ...told, ...own.fields } : told);
  }
  follow();
  for (const name of touched) count(name);
  for (const name of anew) await fetchRows(name);
}

/** @param {string} name */
export async function fetchRows(name) {
  const found = await ask(`/api/worlds/${state.world.id}/${name}`);
  if (!found) return;
  put(name, found);
  count(name);
}

/** The line was lost, and anything may have happened. */
export async function fetchAll() {
  const world = await ask(`/api/worlds/${state.world.id}`);
  if (!world) return;
  takeAll(world);
  state.world.name = world.name;
  Object.assign(state, { can_undo: world.can_undo, can_redo: world.can_redo });
  state.world.revision = world.revision;
  follow();
  for (const { name, told } of boot.collections) if (told) count(name);
  await fetchRows("things");
}

// What templates ask: lists that show what fits, and say how many more there are.
Alpine.magic("rows", () => (/** @type {string} */ name) => rows(name));
Alpine.magic("listed", () => (/** @type {string} */ name) => rows(name).slice(0, MOST_LISTED));
Alpine.magic("more", () => (/** @type {string} */ name) => Math.max(0, rows(name).length - MOST_LISTED));
Alpine.magic("subject", () => (/** @type {string} */ field) => subject(field));
Alpine.magic("only", () => (/** @type {string} */ name) => only(name));
