// Rows with a place: put, chosen, dragged, turned and deleted on the plan, whatever collection they are of.
import { ask, say } from "../../kernel/say.js";
import { chosenOf } from "../bench.js";
import { HANDLE } from "../drawn/overlay.js";
import { screenAt } from "../drawn/plan.js";
import { addHand } from "./hand.js";
import { each, expect, forget, row, settle } from "../rows.js";
import { actions, inShown, state } from "../state.js";

/**
 * @typedef {object} Placed
 * @property {string} stage on which they are worked with
 * @property {string} name of the collection
 * @property {string} form the id of the form of what is chosen
 * @property {(what: string) => Record<string, any> | null} make what is put for what the bench has in the hand; null where that is another's
 * @property {boolean} [turns] whether a handle turns them
 */

/** How near to a row a click takes it. [px] */
const NEAR = 14;

const path = (/** @type {string} */ name) => `/api/worlds/${state.world.id}/${name}`;

/** @param {string} name @param {string | null} key */
export const choose = (name, key) => {
  state.chosen = key ? `${name}/${key}` : null;
};

/** Delete what is chosen, of whatever collection it is. */
export async function removeChosen() {
  const [name, key] = (state.chosen || "/").split("/");
  const own = row(name, key);
  if (!own) return;
  state.chosen = null;
  if (await ask(`${path(name)}/${key}`, "DELETE"))
    say(`${own.name || own.text || "It"} is deleted. Undo brings it back.`, "calm");
}
actions.remove = removeChosen;

/** Let the hand on the plan work with a collection of rows with a place. @param {Placed} kind */
export function addPlaced({ stage, name, form, make, turns }) {
  /** @type {{key: string, part: "turn" | "body", px: number, py: number, said: Record<string, number> | null} | null} */
  let held = null;

  /** @param {number} px @param {number} py @returns {{key: string, part: "turn" | "body"} | null} */
  function hit(px, py) {
    const own = turns ? chosenOf(name) : null;
    if (own) {
      const [x, y] = screenAt(own.x, own.y);
      const turn = (own.turn_deg * Math.PI) / 180;
      if (Math.hypot(px - x - Math.sin(turn) * HANDLE, py - y + Math.cos(turn) * HANDLE) < 9)
        return { key: own.key, part: "turn" };
    }
    let best = null;
    let nearest = NEAR;
    for (const one of each(name)) {
      const [x, y] = screenAt(one.x, one.y);
      const away = Math.hypot(px - x, py - y);
      if (away < nearest) [best, nearest] = [one.key, away];
    }
    return best === null ? null : { key: best, part: "body" };
  }

  /** @param {Record<string, any>} said @param {{x: number, y: number}} spot */
  async function put(said, spot) {
    state.place = null;
    const made = await ask(`${path(name)}?in=world`, "POST", { ...said, ...inShown(spot), tract: state.world.tract });
    if (made) choose(name, made.key);
  }

  addHand({
    down(px, py, spot) {
      if (state.stage !== stage) return false;
      if (state.place) {
        const said = make(state.place);
        if (said) put(said, spot);
        return said !== null;
      }
      const found = hit(px, py);
      if (!found) {
        if (chosenOf(name)) choose(name, null);
        return false;
      }
      choose(name, found.key);
      held = { ...found, px, py, said: null };
      return true;
    },
    move(px, py, spot) {
      if (!held || (!held.said && Math.hypot(px - held.px, py - held.py) < 4)) return;
      const own = row(name, held.key);
      if (!own) return;
      const [x, y] = screenAt(own.x, own.y);
      held.said =
        held.part === "turn"
          ? { turn_deg: (Math.round((Math.atan2(px - x, y - py) * 180) / Math.PI) + 360) % 360 }
          : inShown(spot);
      delete document.getElementById(form)?.dataset.typed;
      expect(name, held.key, held.said);
    },
    up(keep) {
      const was = held;
      held = null;
      if (!was?.said) return;
      if (keep) settle(name, was.key, ask(`${path(name)}/${was.key}?in=world`, "PATCH", was.said));
      else forget(name, was.key);
    },
  });
}
