// The socket: messages to the server, and messages from it told to the page.
import { say } from "./say.js";
import { state, tell } from "./state.js";

let socket = null;
let tries = 0;
let gone = false;
/** Facts that a new connection has to be told again. */
const remembered = new Map();

/** Open the socket, and again whenever it is lost. */
export function connect() {
  const scheme = location.protocol === "https:" ? "wss" : "ws";
  socket = new WebSocket(`${scheme}://${location.host}/live/${state.world.id}?tract=${state.world.tract}`);
  socket.binaryType = "arraybuffer";
  socket.addEventListener("open", () => {
    for (const message of remembered.values()) socket.send(JSON.stringify(message));
  });
  socket.addEventListener("message", (event) => take(event.data));
  socket.addEventListener("close", (event) => {
    if (gone) return;
    if (event.code === 4404 || event.code === 4403) {
      say(event.reason || "This world cannot be opened.");
      return;
    }
    tell("connection", false);
    tries += 1;
    setTimeout(connect, Math.min(4000, 250 * 2 ** tries));
  });
}

function take(data) {
  if (typeof data === "string") {
    const message = JSON.parse(data);
    if (message.is === "hello") {
      const lost = tries > 0;
      tries = 0;
      tell("connection", true);
      // While the line was down anything may have happened.
      if (lost || message.revision !== state.world.revision) tell("all-stale");
    }
    if (message.is === "gone") gone = true;
    tell(`live:${message.is}`, message);
    return;
  }
  const length = new DataView(data).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, length)));
  tell(`live:${head.is}`, { ...head, body: data, offset: 4 + length });
}

/**
 * Send a message; false when the line is down.
 * @param {{is: string}} message @param {boolean} [remember] tell a new connection too
 */
export function send(message, remember = false) {
  if (remember) remembered.set(message.is, message);
  if (socket?.readyState !== WebSocket.OPEN) return false;
  socket.send(JSON.stringify(message));
  return true;
}
