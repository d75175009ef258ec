// What is read out: one polite log for the whole page. What happens at once is said together; nothing that is said
// takes the place of what was said before it.
const log = document.createElement("div");
log.className = "visually-hidden";
log.id = "told";
log.setAttribute("role", "log");
document.body.append(log);

/** @type {string[]} */
let waiting = [];
let timer = 0;
/** What happens within this time is one announcement. [ms] */
const TOGETHER_MS = 120;
/** So many announcements stay to be read again. */
const KEPT = 8;

/** Let a screen reader say something when it has nothing else to say. @param {string} words */
export function tell(words) {
  if (!words || waiting.includes(words)) return;
  waiting.push(words);
  clearTimeout(timer);
  timer = setTimeout(() => {
    const said = document.createElement("p");
    said.textContent = waiting.map((one) => (/[.!?…]$/.test(one) ? one : `${one}.`)).join(" ");
    waiting = [];
    log.append(said);
    if (log.childElementCount > KEPT) log.firstElementChild?.remove();
  }, TOGETHER_MS);
}
