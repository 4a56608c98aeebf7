// Whether a key that was pressed belongs to a field, a dialog, or the browser.
export function keysElsewhere(event: KeyboardEvent): boolean {
  if (event.ctrlKey || event.metaKey || event.altKey) return true;
  return (event.target as HTMLElement).closest(".modal, .offcanvas, input, textarea, select") !== null;
}
