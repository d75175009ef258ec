// What is read out: one polite line for the whole page. What happens at once is said together, and once.
const line = document.createElement("div");
line.className = "visually-hidden";
line.id = "told";
line.setAttribute("role", "status");
document.body.append(line);

/** @type {string[]} */
let waiting = [];
let timer = 0;
/** What happens within this time is one announcement. [ms] */
const TOGETHER_MS = 120;

/** Let a screen reader say something when it has nothing else to say. @param {string} words */
export function tell(words) {
  if (!words || waiting.includes(words)) return;
  waiting.push(words);
  clearTimeout(timer);
  timer = setTimeout(() => {
    const said = waiting.map((one) => (/[.!?…]$/.test(one) ? one : `${one}.`)).join(" ");
    waiting = [];
    // The same words again are a new announcement.
    line.textContent = line.textContent === said ? `${said}\u00a0` : said;
  }, TOGETHER_MS);
}
