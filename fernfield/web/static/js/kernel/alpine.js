// Alpine as a module; the build that needs no eval.
import Alpine from "../../vendor/alpine.js";

export default Alpine;

/**
 * Do something now and whenever what `read` gives has changed. Only plain values: words, numbers, true or false.
 * @template T
 * @param {() => T} read
 * @param {(value: T) => void} act
 */
export function watch(read, act) {
  let known = false;
  /** @type {T | undefined} */
  let last;
  Alpine.effect(() => {
    const value = read();
    if (known && Object.is(value, last)) return;
    const first = !known;
    known = true;
    last = value;
    // What `act` reads is no reason to do it again.
    if (!first) queueMicrotask(() => act(value));
  });
}
