// The socket: messages to the server, and messages from it as events.
import { say } from "../kernel/say.js";
import { announce, state } from "./state.js";

/** @type {WebSocket | null} */
let socket = null;
let tries = 0;
let gone = false;
/** Facts that a new connection has to be told again. @type {Map<string, object>} */
const remembered = new Map();
const messages = new EventTarget();

/** Hear messages of one sort. @param {string} name @param {(message: any) => void} act */
export const hears = (name, act) =>
  messages.addEventListener(name, (event) => act(/** @type {CustomEvent} */ (event).detail));

/** @param {string} name @param {any} detail */
const pass = (name, detail) => messages.dispatchEvent(new CustomEvent(name, { detail }));

/** Open the socket, and again whenever it is lost. */
export function connect() {
  const scheme = location.protocol === "https:" ? "wss" : "ws";
  const opened = new WebSocket(`${scheme}://${location.host}/live/${state.world.id}?land=${state.world.tract}`);
  socket = opened;
  opened.binaryType = "arraybuffer";
  opened.addEventListener("open", () => {
    for (const message of remembered.values()) opened.send(JSON.stringify(message));
  });
  opened.addEventListener("message", (event) => take(event.data));
  opened.addEventListener("close", (event) => {
    if (gone) return;
    if (event.code === 4401) {
      // The session has ended: the page asks for the phrase.
      location.reload();
      return;
    }
    if (event.code === 4404 || event.code === 4403) {
      say(event.reason || "This world cannot be opened.");
      return;
    }
    state.line = "lost";
    pass("connection", false);
    tries += 1;
    setTimeout(connect, Math.min(4000, 250 * 2 ** tries));
  });
}

/** @param {string | ArrayBuffer} data */
function take(data) {
  if (typeof data === "string") {
    const message = JSON.parse(data);
    if (message.is === "hello") {
      const lost = tries > 0;
      tries = 0;
      state.line = "kept";
      pass("connection", true);
      // While the line was down anything may have happened.
      if (lost || message.revision !== state.world.revision) announce("all-stale");
    }
    if (message.is === "gone") gone = true;
    pass(message.is, message);
    return;
  }
  const length = new DataView(data).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, length)));
  pass(head.is, { ...head, body: data, offset: 4 + length });
}

/**
 * Send a message; false when the line is down.
 * @param {{is: string} & Record<string, any>} message @param {boolean} [remember] tell a new connection too
 */
export function send(message, remember = false) {
  if (remember) remembered.set(message.is, message);
  if (socket?.readyState !== WebSocket.OPEN) return false;
  socket.send(JSON.stringify(message));
  return true;
}
