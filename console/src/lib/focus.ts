// Where the focus goes when what had it goes away, as a button does that was pressed.

/** What a person can press or type in, in the order of the page. */
const STOPS =
  'a[href], button:not(:disabled), input:not(:disabled), select:not(:disabled), textarea:not(:disabled), summary, [tabindex="0"]';

/** As many as a page and the dialogs over it need. */
const REMEMBERED = 8;

/**
 * Keeps the focus near where it was: on what stands nearest to the place of the element that went,
 * or again on that element when it was only disabled for a moment. Gives what ends it.
 */
export function keepFocus(): () => void {
  // What had the focus, each with what it stood in, the last one first.
  let before: Element[][] = [];
  const around = (element: Element): Element[] =>
    element.parentElement && element !== document.body ? [element, ...around(element.parentElement)] : [];
  const remember = (element: Element) => {
    before = [around(element), ...before.filter(([one]) => one !== element)].slice(0, REMEMBERED);
  };
  const note = (event: Event) => {
    if (event.target instanceof Element) remember(event.target);
  };
  const pressed = (event: Event) => {
    const stop = event.target instanceof Element ? event.target.closest(STOPS) : null;
    if (stop) remember(stop);
    // Whoever presses on what takes no focus wants none.
    else before = [];
  };
  const look = () => {
    if (document.activeElement !== document.body) return;
    const [last] = before[0] ?? [];
    if (last?.isConnected) {
      if (last instanceof HTMLElement && !last.matches(":disabled")) last.focus({ preventScroll: true });
      return;
    }
    for (const path of before) {
      const near = path.find((element) => element.isConnected && element.id !== "root");
      if (!near) continue;
      const stop = near.matches(STOPS) ? near : near.querySelector(STOPS);
      if (stop instanceof HTMLElement) return stop.focus({ preventScroll: true });
    }
    if (before.length > 0) document.getElementById("page")?.focus({ preventScroll: true });
  };
  const observer = new MutationObserver(look);
  observer.observe(document.body, { subtree: true, childList: true, attributes: true, attributeFilter: ["disabled"] });
  document.addEventListener("focusin", note);
  document.addEventListener("pointerdown", pressed);
  return () => {
    observer.disconnect();
    document.removeEventListener("focusin", note);
    document.removeEventListener("pointerdown", pressed);
  };
}
