// A value once it has stood still for a while: what costs more than a redraw waits for the hand to rest.
import { useEffect, useState } from "react";

export function useSettled<T>(value: T, milliseconds: number): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(value), milliseconds);
    return () => window.clearTimeout(timer);
  }, [value, milliseconds]);
  return settled;
}
