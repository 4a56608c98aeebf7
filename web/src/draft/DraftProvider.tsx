// Holds the draft for all screens of a workspace.
import { useMemo, useState } from "react";
import { DraftContext, type Draft } from "./draft";

export function DraftProvider({ children }: { children: React.ReactNode }) {
  const [draft, set] = useState<Draft | null>(null);
  const state = useMemo(() => ({ draft, set }), [draft]);
  return <DraftContext value={state}>{children}</DraftContext>;
}
