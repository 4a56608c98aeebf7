// Figures for people: units, no false precision.
export function duration(seconds: number): string {
  if (seconds < 1) return "under a second";
  if (seconds < 90) return `${Math.round(seconds)} s`;
  return seconds < 5400 ? `${Math.round(seconds / 60)} min` : `${(seconds / 3600).toFixed(1)} h`;
}

export function milliseconds(seconds: number): string {
  const value = seconds * 1000;
  return `${value < 10 ? value.toFixed(1) : Math.round(value)} ms`;
}

export function bytes(count: number): string {
  if (count < 1024) return `${count} B`;
  if (count < 1024 ** 2) return `${(count / 1024).toFixed(0)} KiB`;
  return count < 1024 ** 3
    ? `${(count / 1024 ** 2).toFixed(1)} MiB`
    : `${(count / 1024 ** 3).toFixed(2)} GiB`;
}

export const score = (value: number): string => {
  const text = value.toFixed(Math.abs(value) >= 10 ? 1 : 3);
  return Math.abs(value) < 1 ? text.replace("0.", ".") : text;
};
export const percent = (share: number): string =>
  `${(100 * share).toFixed(share === 1 || share === 0 ? 0 : 1)} %`;

/** A count with its noun, in the singular where it is one. */
export const counted = (count: number, noun: string): string =>
  `${count.toLocaleString()} ${noun}${count === 1 ? "" : "s"}`;
