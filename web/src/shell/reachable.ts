// What scrolls can be reached by keyboard: a tab stop of its own, where nothing in it is one.
import { useEffect } from "react";

const SCROLLERS =
  ".split > *, .body, .text-pane, .about, .page-picture, .problem-list, .list, .rows, .trials";
const STOPS = "a[href], button, input, select, textarea, [tabindex='0']";

function look() {
  for (const pane of document.querySelectorAll<HTMLElement>(SCROLLERS)) {
    const scrolls = pane.scrollHeight > pane.clientHeight + 1 && getComputedStyle(pane).overflowY === "auto";
    const stop = scrolls && !pane.querySelector(STOPS);
    if (stop && pane.tabIndex !== 0) pane.tabIndex = 0;
    if (!stop && pane.hasAttribute("tabindex")) pane.removeAttribute("tabindex");
  }
}

export function useReachable() {
  useEffect(() => {
    let waiting = 0;
    const later = () => {
      cancelAnimationFrame(waiting);
      waiting = requestAnimationFrame(look);
    };
    const observer = new MutationObserver(later);
    observer.observe(document.body, { childList: true, subtree: true });
    window.addEventListener("resize", later);
    later();
    return () => {
      observer.disconnect();
      window.removeEventListener("resize", later);
      cancelAnimationFrame(waiting);
    };
  }, []);
}
