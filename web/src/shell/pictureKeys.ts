// Pictures by keyboard: one tab stop a picture, arrow keys go to the nearest mark that way, Enter and space choose it.

const WAYS: Record<string, [x: number, y: number]> = {
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, -1],
  ArrowDown: [0, 1],
};

export interface Spot {
  x: number;
  y: number;
}

/** The spot to go to from `spots[here]`; what lies aside counts twice as far. -1 where there is none. */
export function nearest(spots: Spot[], here: number, key: string): number {
  const way = WAYS[key];
  const from = spots[here];
  if (!way || !from) return -1;
  let best = -1;
  let least = Infinity;
  spots.forEach((spot, place) => {
    const along = (spot.x - from.x) * way[0] + (spot.y - from.y) * way[1];
    const aside = Math.abs((spot.x - from.x) * way[1]) + Math.abs((spot.y - from.y) * way[0]);
    if (place === here || along <= 0.5) return;
    const far = along + 2 * aside;
    if (far < least) [best, least] = [place, far];
  });
  return best;
}

/** For `onKeyDown` of a picture whose marks have `data-mark`. */
export function pictureKeys(event: React.KeyboardEvent<Element>) {
  const marks = [...event.currentTarget.querySelectorAll<SVGElement>("[data-mark]")];
  const here = marks.indexOf(document.activeElement as SVGElement);
  if (here < 0) return;
  if (event.key === "Enter" || event.key === " ") {
    event.preventDefault();
    event.stopPropagation();
    marks[here]!.dispatchEvent(new MouseEvent("click", { bubbles: true }));
    return;
  }
  if (!(event.key in WAYS)) return;
  event.preventDefault();
  const spots = marks.map((mark) => {
    const box = mark.getBoundingClientRect();
    return { x: box.left + box.width / 2, y: box.top + box.height / 2 };
  });
  marks[nearest(spots, here, event.key)]?.focus();
}

/** What makes a mark one: named for a screen reader, and the tab stop of its picture where it is `first`. */
export function mark(label: string, first: boolean, chosen?: boolean) {
  return {
    role: "button",
    "data-mark": "",
    tabIndex: first ? 0 : -1,
    "aria-label": label,
    ...(chosen === undefined ? {} : { "aria-pressed": chosen }),
  } as const;
}
